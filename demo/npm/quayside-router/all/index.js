'use strict';
require('quayside'); // it must be there: routes are mounted on its applications

// Mounts a table of handlers below a prefix.
exports.mount = (app, prefix, table) => {
  for (const [path, handler] of Object.entries(table)) app.get(prefix + path, handler);
  return app;
};

'use strict';
const fill = require('sailcloth');
require('quayside');

// Turns a template into a handler.
exports.view = (template, values) => {
  if (/<q-frame\b/.test(template)) throw new Error('the element `q-frame` is gone: what is in it stands by itself');
  return (request) => fill(template, values(request));
};

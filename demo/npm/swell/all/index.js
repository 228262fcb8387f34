'use strict';
// Asks an application for a path.
exports.ask = (app, path) => app.handle({ path });

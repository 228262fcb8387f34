'use strict';
const fill = require('sailcloth');
require('quayside');

// Turns a template into a handler.
exports.view = (template, values) => (request) => fill(template, values(request));

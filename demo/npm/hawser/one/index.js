'use strict';
// Ties many functions into one that calls them in turn.
exports.splice = (...steps) => (value) => steps.reduce((v, step) => step(v), value);
exports.escape = (text) => String(text).replace(/[&<>"]/g, (c) => ({ '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;' }[c]));

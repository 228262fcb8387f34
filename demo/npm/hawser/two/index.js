'use strict';
const entities = new Map([['&', '&amp;'], ['<', '&lt;'], ['>', '&gt;'], ['"', '&quot;']]);
exports.splice = (...steps) => (value) => steps.reduce((v, step) => step(v), value);
exports.escape = (text) => String(text).replace(/[&<>"]/g, (c) => entities.get(c));

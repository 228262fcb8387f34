'use strict';
// Fills {{name}} in a text.
module.exports = (text, values) => text.replace(/\{\{(\w+)\}\}/g, (_, name) => values[name] ?? '');

'use strict';
exports.bowline = (...parts) => parts.join(' ').trim().toLowerCase().replace(/\s+/g, '-');

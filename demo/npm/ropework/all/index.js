'use strict';
// Joins the parts of a name: bowline("North", "Pier") is "north-pier".
exports.bowline = (...parts) => parts.join(' ').trim().toLowerCase().replace(/\s+/g, '-');

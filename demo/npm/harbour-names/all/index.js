'use strict';
const names = { NP: 'North Pier', SK: 'Skerry Landing', OR: 'Orchard Isle', HL: 'Heron Lock' };
// The name of a harbour by its two letters.
exports.name = (code) => names[code] || code;
exports.codes = () => Object.keys(names);

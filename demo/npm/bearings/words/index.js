'use strict';
const points = ['north', 'north-east', 'east', 'south-east', 'south', 'south-west', 'west', 'north-west'];
// The compass point of a course in degrees, written out.
exports.point = (degrees) => points[Math.round(((degrees % 360) + 360) % 360 / 45) % 8];
// The same, in letters.
exports.letters = (degrees) => exports.point(degrees).split('-').map((word) => word[0].toUpperCase()).join('');

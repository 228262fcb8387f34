'use strict';
const points = ['N', 'NE', 'E', 'SE', 'S', 'SW', 'W', 'NW'];
// The compass point of a course in degrees.
exports.point = (degrees) => points[Math.round(((degrees % 360) + 360) % 360 / 45) % 8];

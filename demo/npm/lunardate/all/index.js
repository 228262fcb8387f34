'use strict';
// Minutes since midnight for "07:45", and back.
exports.minutes = (clock) => clock.split(':').reduce((sum, part) => sum * 60 + Number(part), 0);
exports.clock = (minutes) => [Math.floor(minutes / 60) % 24, minutes % 60].map((n) => String(n).padStart(2, '0')).join(':');

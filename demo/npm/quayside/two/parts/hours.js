'use strict';
// The hour of a time of the day.
exports.hour = (clock) => Number(clock.split(':')[0]);

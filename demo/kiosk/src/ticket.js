'use strict';
const { minutes, clock } = require('lunardate');
const { point } = require('bearings');
const { name } = require('harbour-names');

// What is printed on a ticket: where to, on what course, and when to be there.
exports.ticket = (trip) => {
  const there = clock(minutes(trip.at) + trip.takes);
  return `${name(trip.to)}, course ${point(trip.course)}, there at ${there}`;
};

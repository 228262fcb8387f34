'use strict';
const { minutes, clock } = require('lunardate');
const { letters } = require('bearings');
const { name } = require('harbour-names');
const { bowline } = require('ropework');

// The day's departures: when, where to, on what course, and how late.
const timetable = [
  { at: '07:45', to: 'SK', course: 225, late: 0 },
  { at: '09:10', to: 'OR', course: 92, late: 15 },
  { at: '06:30', to: 'HL', course: 348, late: 0 },
];

exports.departures = (from = '00:00') => timetable
  .filter((d) => minutes(d.at) >= minutes(from))
  .sort((a, b) => minutes(a.at) - minutes(b.at))
  .map((d) => ({
    at: clock(minutes(d.at) + d.late),
    to: name(d.to),
    course: letters(d.course),
    anchor: bowline(name(d.to)),
    note: d.late ? `${d.late} min late` : 'on time',
  }));

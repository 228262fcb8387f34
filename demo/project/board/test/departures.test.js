'use strict';
const test = require('node:test');
const assert = require('node:assert');
const { departures } = require('../src/departures.js');

test('departures', async (t) => {
  await t.test('are in the order of the day', () => {
    assert.deepStrictEqual(departures().map((d) => d.to), ['Heron Lock', 'Skerry Landing', 'Orchard Isle']);
  });
  await t.test('add the delay to the time', () => {
    assert.strictEqual(departures()[2].at, '09:25');
    assert.strictEqual(departures()[2].note, '15 min late');
  });
  await t.test('give the course in letters', () => {
    assert.deepStrictEqual(departures().map((d) => d.course), ['N', 'SW', 'E']);
  });
  await t.test('leave out what has sailed', () => {
    assert.strictEqual(departures('07:00').length, 2);
  });
  await t.test('have an anchor', () => {
    assert.strictEqual(departures()[0].anchor, 'heron-lock');
  });
});

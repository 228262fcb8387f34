'use strict';
const test = require('node:test');
const assert = require('node:assert');
const { ticket } = require('../src/ticket.js');

test('a ticket has the course in letters', () => {
  assert.strictEqual(ticket({ to: 'HL', at: '06:30', takes: 40, course: 348 }), 'Heron Lock, course N, there at 07:10');
});
test('a ticket has the arrival', () => {
  assert.match(ticket({ to: 'OR', at: '09:10', takes: 25, course: 92 }), /there at 09:35$/);
});

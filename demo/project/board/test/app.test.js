'use strict';
const test = require('node:test');
const assert = require('node:assert');
const { ask } = require('swell');
const { createBoard } = require('../src/app.js');

test('the board', async (t) => {
  await t.test('shows every departure', () => {
    const { status, body } = ask(createBoard(), '/board');
    assert.strictEqual(status, 200);
    for (const place of ['Heron Lock', 'Skerry Landing', 'Orchard Isle']) assert.ok(body.includes(`<td>${place}</td>`));
  });
  await t.test('counts its visits', () => {
    const app = createBoard();
    ask(app, '/board');
    ask(app, '/board');
    assert.strictEqual(ask(app, '/board/visits').body, '2');
  });
  await t.test('does not know other pages', () => {
    assert.strictEqual(ask(createBoard(), '/cargo').status, 404);
  });
});

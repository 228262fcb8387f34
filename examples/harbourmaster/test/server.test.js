'use strict';
const test = require('node:test');
const assert = require('node:assert');
const request = require('supertest');
const { createHarbour, createServer } = require('../dist/server.js');

const gull = { ship: 'Grey Gull', berth: 2, at: '2026-03-01T08:30:00Z' };
const tern = { ship: 'Tern', berth: 1, at: '2026-02-01T08:30:00Z' };

test('the API', async (t) => {
  await t.test('takes arrivals and gives them in order', async () => {
    const app = createServer(createHarbour());
    await request(app).post('/api/arrivals').send(gull).expect(201);
    await request(app).post('/api/arrivals').send(tern).expect(201);
    const { body } = await request(app).get('/api/arrivals').expect(200);
    assert.deepStrictEqual(body.map((a) => a.ship), ['Tern', 'Grey Gull']);
    assert.match(body[0].id, /^[0-9a-f-]{36}$/);
  });
  await t.test('refuses what is no arrival', async () => {
    await request(createServer(createHarbour())).post('/api/arrivals').send({ ship: '' }).expect(400);
  });
  await t.test('refuses versions it does not speak', async () => {
    await request(createServer(createHarbour())).get('/api/arrivals').set('x-api-version', '2.0.0').expect(406);
  });
});

test('the page', async (t) => {
  await t.test('is drawn on the server', async () => {
    const app = createServer(createHarbour());
    await request(app).post('/api/arrivals').send(tern);
    const { text } = await request(app).get('/').expect(200);
    assert.ok(text.includes('Tern') && text.includes('1 Feb 2026') && text.includes('arrival first-berth'));
  });
  await t.test('shows a berth', async () => {
    const { text } = await request(createServer(createHarbour())).get('/berth/3').expect(200);
    assert.ok(text.includes('free'));
  });
});

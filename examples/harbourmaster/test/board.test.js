'use strict';
const test = require('node:test');
const assert = require('node:assert');

test('the board in a browser', async (t) => {
  const close = require('global-jsdom')(undefined, { url: 'http://localhost/' });
  const { render, screen, fireEvent, cleanup } = require('@testing-library/react');
  const { Board, announced, createHarbour, MemoryRouter, Provider, React } = require('../dist/server.js');
  await t.test('leads from a ship to its berth', () => {
    const store = createHarbour();
    store.dispatch(announced({ ship: 'Heron', berth: 4, at: '2026-03-01T08:30:00Z' }));
    render(React.createElement(Provider, { store }, React.createElement(MemoryRouter, null, React.createElement(Board))));
    fireEvent.click(screen.getByText('Heron'));
    assert.strictEqual(screen.getByText(/Berth/).textContent, 'Berth 4: Heron');
    cleanup();
  });
  close();
});

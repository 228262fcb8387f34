import express from 'express';
import React from 'react';
import { renderToString } from 'react-dom/server';
import { Provider } from 'react-redux';
import { MemoryRouter } from 'react-router-dom';
import semver from 'semver';
import { Board } from './board.jsx';
import { announced, createHarbour } from './store.js';

export { Board, announced, createHarbour, MemoryRouter, Provider, React };

// The page for a path, drawn on the server.
export const render = (store, path) => renderToString(
  <Provider store={store}>
    <MemoryRouter initialEntries={[path]}><Board /></MemoryRouter>
  </Provider>,
);

export function createServer(store) {
  const app = express();
  app.use(express.json());
  app.get('/api/arrivals', (request, response) => {
    if (!semver.satisfies(request.get('x-api-version') || '1.0.0', '1.x')) return response.status(406).end();
    return response.json(store.getState().arrivals);
  });
  app.post('/api/arrivals', (request, response) => {
    try {
      store.dispatch(announced(request.body));
      response.status(201).end();
    } catch {
      response.status(400).end();
    }
  });
  app.use((request, response) => response.send(`<!doctype html><div id="board">${render(store, request.path)}</div>`));
  return app;
}

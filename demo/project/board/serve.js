'use strict';
// Serves the board to the screens on the piers.
const http = require('node:http');
const { version } = require('quayside/package.json');
const { createBoard } = require('./src/app.js');

const board = createBoard(require('./config/board.json').quayside);
http.createServer((request, answer) => {
  const { pathname, searchParams } = new URL(request.url, 'http://board');
  if (pathname === '/about') {
    answer.end(JSON.stringify({ quayside: version }));
    return;
  }
  const { status = 200, body } = board.handle({ path: pathname, query: Object.fromEntries(searchParams) });
  answer.writeHead(status, { 'content-type': 'text/html; charset=utf-8' });
  answer.end(body);
}).listen(process.env.PORT, '127.0.0.1', () => console.log('the board is up'));

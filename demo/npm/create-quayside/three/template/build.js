'use strict';
const fs = require('fs');
const { createBoard } = require('./src/app.js');

fs.mkdirSync('dist', { recursive: true });
fs.writeFileSync('dist/board.html', createBoard().handle({ path: '/board' }).body);

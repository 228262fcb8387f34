'use strict';
// The line that older screens show below the board.
exports.footer = (text) => `<small>${text}</small>`;

'use strict';
// A log that keeps its lines until they are read.
exports.log = () => {
  const lines = [];
  return { write: (line) => { lines.push(line); }, lines: () => lines.slice() };
};

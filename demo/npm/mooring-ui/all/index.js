'use strict';
const { escape } = require('hawser');

// A table of rows; the first row is the heading.
exports.table = ([head, ...rows]) => {
  const row = (cells, tag) => `<tr>${cells.map((c) => `<${tag}>${escape(c)}</${tag}>`).join('')}</tr>`;
  return `<table>${row(head, 'th')}${rows.map((r) => row(r, 'td')).join('')}</table>`;
};

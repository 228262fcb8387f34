'use strict';
const fs = require('fs');
const path = require('path');
const quayside = require('quayside');
const { hour } = require('quayside/parts/hours');
const { footer } = require('quayside/parts/legacy');
const { mount } = require('quayside-router');
const { view } = require('quayside-view');
const { table } = require('mooring-ui');
const { read } = require('tide-form');
const { log } = require('gangway-log');
const { departures } = require('./departures.js');

const page = fs.readFileSync(path.join(__dirname, '..', 'pages', 'board.html'), 'utf8');

exports.createBoard = (settings = {}) => {
  const visits = log();
  const app = quayside({
    missing: 'nothing moors here', // what a page that there is not says
    ...settings,
  });
  const rows = (from) => [
    ['Time', 'To', 'Course', ''],
    ...departures(from).map((d) => [d.at, d.to, d.course, hour(d.at) < 7 ? `${d.note}, early` : d.note]),
  ];
  mount(app, '/board', {
    '': view(page, (request) => {
      visits.write(request.path);
      const { from } = read(request.query, { from: String });
      return { title: 'Saltmarsh Ferries', board: table(rows(from)), footer: footer('mind the gangway') };
    }),
    '/visits': () => String(visits.lines().length),
  });
  return app;
};

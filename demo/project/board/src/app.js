'use strict';
const quayside = require('quayside');
const { mount } = require('quayside-router');
const { view } = require('quayside-view');
const { table } = require('mooring-ui');
const { read } = require('tide-form');
const { log } = require('gangway-log');
const { departures } = require('./departures.js');

const page = '<!doctype html><title>{{title}}</title><h1>{{title}}</h1>{{board}}';

exports.createBoard = () => {
  const visits = log();
  const app = quayside();
  const rows = (from) => [
    ['Time', 'To', 'Course', ''],
    ...departures(from).map((d) => [d.at, d.to, d.course, d.note]),
  ];
  mount(app, '/board', {
    '': view(page, (request) => {
      visits.write(request.path);
      const { from } = read(request.query, { from: String });
      return { title: 'Saltmarsh Ferries', board: table(rows(from)) };
    }),
    '/visits': () => String(visits.lines().length),
  });
  return app;
};

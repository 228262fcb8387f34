'use strict';
const http = require('http');
const { splice } = require('hawser');

// An application answers requests by the first route that matches.
module.exports = function quayside() {
  const routes = [];
  const filters = [];
  const app = {
    use(filter) { filters.push(filter); return app; },
    get(path, handler) { routes.push({ path, handler }); return app; },
    handle(request) {
      const route = routes.find((r) => r.path === request.path);
      if (!route) return { status: 404, body: 'no such quay' };
      return splice(...filters)({ status: 200, body: route.handler(request) });
    },
    listen(port, ready) {
      return http.createServer((req, res) => {
        const { status, body } = app.handle({ path: req.url });
        res.statusCode = status;
        res.end(body);
      }).listen(port, ready);
    },
  };
  return app;
};

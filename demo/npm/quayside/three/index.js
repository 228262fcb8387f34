'use strict';
const http = require('http');
const { splice } = require('hawser');

// An application answers requests by the first route that matches. Handlers
// get the parameters of the query.
module.exports = function quayside(options = {}) {
  if ('missing' in options) throw new TypeError('the option `missing` is gone: use `pages.missing`');
  const routes = new Map();
  const filters = [];
  const app = {
    use(filter) { filters.push(filter); return app; },
    get(path, handler) { routes.set(path, handler); return app; },
    handle(request) {
      const url = new URL(request.path, 'http://quay.invalid');
      const handler = routes.get(url.pathname);
      if (!handler) return { status: 404, body: options.pages?.missing ?? 'no such quay' };
      return splice(...filters)({ status: 200, body: handler({ ...request, query: url.searchParams }) });
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

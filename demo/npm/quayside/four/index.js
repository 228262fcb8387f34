'use strict';
const http = require('node:http');
const { splice } = require('hawser');

class Application {
  #routes = new Map();
  #filters = [];
  #options;
  constructor(options) { this.#options = options; }
  use(filter) { this.#filters.push(filter); return this; }
  get(path, handler) { this.#routes.set(path, handler); return this; }
  handle(request) {
    const url = new URL(request.path, 'http://quay.invalid');
    const handler = this.#routes.get(url.pathname);
    if (!handler) return { status: 404, body: this.#options.missing ?? 'no such quay' };
    return splice(...this.#filters)({ status: 200, body: handler({ ...request, query: url.searchParams }) });
  }
  listen(port, ready) {
    return http.createServer((req, res) => {
      const { status, body } = this.handle({ path: req.url });
      res.writeHead(status).end(body);
    }).listen(port, ready);
  }
}

// An application answers requests by the first route that matches.
module.exports = (options = {}) => new Application(options);

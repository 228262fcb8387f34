'use strict';
const http = require('node:http');
const { splice } = require('hawser');

const services = { 'quayside.log.Console': console.error, 'quayside.log.Silent': () => {} };

class Application {
  #routes = new Map();
  #filters = [];
  #options;
  constructor(options) {
    if ('missing' in options) throw new TypeError('the option `missing` is gone: use `pages.missing`');
    if ('refresh' in options) throw new TypeError('the key `refresh` is gone: use `timing.every`');
    if (options.log && !services[options.log]) throw new TypeError(`there is no service ${options.log}`);
    this.#options = options;
  }
  use(filter) { this.#filters.push(filter); return this; }
  get(path, handler) { this.#routes.set(path, handler); return this; }
  handle(request) {
    const url = new URL(request.path, 'http://quay.invalid');
    const handler = this.#routes.get(url.pathname);
    if (!handler) return { status: 404, body: this.#options.pages?.missing ?? 'no such quay' };
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

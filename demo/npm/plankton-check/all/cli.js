#!/usr/bin/env node
'use strict';
const fs = require('fs');
const { check } = require('./index.js');

let found = 0;
for (const file of process.argv.slice(2)) {
  for (const line of check(fs.readFileSync(file, 'utf8'))) {
    console.log(`${file}:${line}: white space at the end of the line`);
    found += 1;
  }
}
process.exitCode = found ? 1 : 0;

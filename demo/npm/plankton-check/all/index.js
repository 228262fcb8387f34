'use strict';
// The numbers of the lines that end in white space.
exports.check = (text) => text.split('\n').flatMap((line, i) => (/[ \t]$/.test(line) ? [i + 1] : []));

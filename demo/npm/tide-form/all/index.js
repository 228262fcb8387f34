'use strict';
// Reads the fields of a query by their readers; what a reader refuses is undefined.
exports.read = (query, fields) => Object.fromEntries(Object.entries(fields).map(([name, reader]) => {
  const value = query && query.get ? query.get(name) : undefined;
  return [name, value == null ? undefined : reader(value)];
}));

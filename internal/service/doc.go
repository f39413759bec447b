// Package service is the HTTP side: it receives traces, answers queries about recordings, notifies listeners of what has
// changed, and serves the console.
//
// A handler decodes, calls one method, encodes, and returns an error; problem.go alone makes statuses of errors. The
// API is described in docs/openapi.yaml, which a test compares with the routes. Gin stays inside this package.
package service

// Package views answers the questions of docs/product.md from what the engine knows: each is a plain value that the API
// sends, a command prints and a page draws. It computes and knows nothing of HTTP, terminals or storage.
package views

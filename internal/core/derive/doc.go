// Package derive adds up what the views of a recording answer from, while its events arrive: registrations and what
// became of their instances, who was given what, costs by the names of scopes, what is alive over time, the latest
// closings, and a log of scopes.
//
// What comes in: the ledger's changes. What goes out: a State, which is data, can be stored, and is all that a view
// needs besides the few lines of the scopes it shows. It grows with what is registered, with the names of scopes, and
// not with what has passed; the log of scopes grows by a few bytes a scope and is handed out in chunks to be stored.
package derive

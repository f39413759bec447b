// Package replay plays a stream again as if some registrations had another lifetime or disposer: it turns the recorded events into
// those that the same application, asking for the same things, would then have brought about. What follows from them is found by the
// engine as from any stream.
//
// A recording shows which consumer requested what: each construction and hand-out is a request, with the instance that was the answer. Requests
// stay as they are; their answers are given again, by the new lifetime. Only registrations whose answers can change are played again:
// the changed ones, and what is built for them.
package replay

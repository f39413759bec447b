// Package freeze packs a web of Go values into bytes and unpacks it again, so that an analysis can go on where it was.
//
// What comes in: pointers to the values that everything else can be reached from. What goes out: bytes that mean
// something to the same program only, since they hold no names of types or fields. Fields that begin with a small letter
// are packed too, pointers to one thing stay pointers to one thing, and circles are no trouble; functions and channels
// stay as they are, and so do fields tagged `freeze:"-"`, for what is recomputed when it is missing.
//
// It is not for values of which two share a part: a pointer into the middle of another value, or one slice's array under
// another slice, come back as two. Inside finds the first, for tests.
package freeze

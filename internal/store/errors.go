package store

import "errors"

// What callers tell apart.
var (
	// ErrNotFound says that there is no such recording or stream.
	ErrNotFound = errors.New("not found")
	// ErrAmbiguous says that a prefix fits several recordings.
	ErrAmbiguous = errors.New("several recordings begin so")
	// ErrInUse says that another service works in the folder.
	ErrInUse = errors.New("another service is working in it; stop that one, or name another folder with --data")
	// ErrNewer says that the database was written by a newer version of the program.
	ErrNewer = errors.New("the data folder was written by a newer version of keenlantern; start that one, or use another folder")
)

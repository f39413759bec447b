package store

import (
	"database/sql"
	"errors"
	"fmt"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// What callers tell apart.
var (
	// ErrNotFound says that there is no such recording or stream.
	ErrNotFound = errors.New("not found")
	// ErrAmbiguous says that a prefix fits several recordings.
	ErrAmbiguous = errors.New("several recordings begin so")
	// ErrNotOwner says that a stream was begun with another token.
	ErrNotOwner = errors.New("the stream was begun with another token; a stream belongs to the token that began it")
	// ErrInUse says that another service works in the folder.
	ErrInUse = errors.New("another service is working in it; stop that one, or name another folder with --data")
	// ErrNewer says that the database was written by a newer version of the program.
	ErrNewer = errors.New("the data folder was written by a newer version of keenlantern; start that one, or use another folder")
	// ErrFull says that nothing more can be stored.
	ErrFull = errors.New("the disk with the data folder is full; make room on it or delete recordings, what is stored is safe")
	// ErrReadOnly says that the folder or its files cannot be written.
	ErrReadOnly = errors.New("the data folder cannot be written; give the service's user the right to, or name another folder with --data")
	// ErrDamaged says that a part of the database is not what was written.
	ErrDamaged = errors.New("a part of the database is damaged; export the recordings that can still be read, and start with a new folder")
)

// one maps what the driver says to our words, where we have any; nil stays nil.
func one(err error) error {
	var coded *sqlite.Error
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return ErrNotFound
	case !errors.As(err, &coded), errors.Is(err, ErrFull), errors.Is(err, ErrReadOnly), errors.Is(err, ErrDamaged):
		return err
	}
	ours := map[int]error{
		sqlite3.SQLITE_FULL: ErrFull, sqlite3.SQLITE_READONLY: ErrReadOnly, sqlite3.SQLITE_CANTOPEN: ErrReadOnly, sqlite3.SQLITE_PERM: ErrReadOnly,
		sqlite3.SQLITE_CORRUPT: ErrDamaged, sqlite3.SQLITE_NOTADB: ErrDamaged,
	}[coded.Code()&0xff]
	if ours == nil {
		return err
	}
	return fmt.Errorf("%w (%w)", ours, err)
}

// unpacked is the error of unpacking what was stored packed: its checksum is wrong.
func unpacked(err error) error { return fmt.Errorf("%w (%w)", ErrDamaged, err) }

package sqlite

import (
	"database/sql"
	"errors"
	"fmt"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"keenlantern.example/internal/store"
)

// one maps what the driver says to our words, where we have any; nil stays nil.
func one(err error) error {
	var coded *sqlite.Error
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return store.ErrNotFound
	case !errors.As(err, &coded), errors.Is(err, store.ErrFull), errors.Is(err, store.ErrReadOnly), errors.Is(err, store.ErrDamaged):
		return err
	}
	ours := map[int]error{
		sqlite3.SQLITE_FULL: store.ErrFull, sqlite3.SQLITE_READONLY: store.ErrReadOnly, sqlite3.SQLITE_CANTOPEN: store.ErrReadOnly, sqlite3.SQLITE_PERM: store.ErrReadOnly,
		sqlite3.SQLITE_CORRUPT: store.ErrDamaged, sqlite3.SQLITE_NOTADB: store.ErrDamaged,
	}[coded.Code()&0xff]
	if ours == nil {
		return err
	}
	return fmt.Errorf("%w (%w)", ours, err)
}

// unpacked is the error of unpacking what was stored packed: its checksum is wrong.
func unpacked(err error) error { return fmt.Errorf("%w (%w)", store.ErrDamaged, err) }

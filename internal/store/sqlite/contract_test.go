package sqlite_test

import (
	"context"
	"testing"

	"keenlantern.example/internal/store/sqlite"
	"keenlantern.example/internal/store/storetest"
)

func TestContract(t *testing.T) {
	storetest.Run(t, func(ctx context.Context, folder string) (storetest.Store, error) { return sqlite.Open(ctx, folder) })
}

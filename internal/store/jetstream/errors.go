package jetstream

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"keenlantern.example/internal/store"
)

// What the log answers and the client library has no name for (errors.json of nats-server).
const (
	codeReplicasAlone  jetstream.ErrorCode = 10074 // replicas of a server that is no cluster
	codeNoPlace        jetstream.ErrorCode = 10005 // no servers for so many replicas
	codeNoResources    jetstream.ErrorCode = 10023
	codeStoreFailed    jetstream.ErrorCode = 10077 // among others: maximum bytes exceeded
	codeMemoryExceeded jetstream.ErrorCode = 10028
	codeStoreExceeded  jetstream.ErrorCode = 10047
	codeOfflineStream  jetstream.ErrorCode = 10118
	codeNoLeader       jetstream.ErrorCode = 10008 // the system is not there at the moment
	codeNotThisStream  jetstream.ErrorCode = 10060
)

func apiCode(err error) jetstream.ErrorCode {
	var js jetstream.JetStreamError
	if errors.As(err, &js) && js.APIError() != nil {
		return js.APIError().ErrorCode
	}
	return 0
}

func wrongRevision(err error) bool {
	if errors.Is(err, jetstream.ErrKeyExists) {
		return true
	}
	code := apiCode(err)
	return code == jetstream.JSErrCodeStreamWrongLastSequence || code == jetstream.JSErrCodeStreamWrongLastSequenceConstant
}

// away makes what the log failed with one of the errors that callers distinguish.
func away(err error) error {
	if err == nil || errors.Is(err, context.Canceled) || errors.Is(err, store.ErrAway) {
		return err
	}
	switch apiCode(err) {
	case codeStoreFailed, codeMemoryExceeded, codeStoreExceeded, codeNoResources:
		return fmt.Errorf("%w: its servers can store nothing more (%w)", store.ErrAway, err)
	}
	return fmt.Errorf("%w (%w)", store.ErrAway, err)
}

// patience is how long a request to the log may take before it counts as away. It is longer than the servers take to choose
// another leader.
const patience = 5 * time.Second

// within bounds a request.
func within(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(ctx, patience)
}

// lost reports whether no server answered.
func lost(err error) bool {
	return errors.Is(err, nats.ErrConnectionClosed) || errors.Is(err, nats.ErrNoResponders) || errors.Is(err, nats.ErrTimeout) ||
		errors.Is(err, context.DeadlineExceeded) || errors.Is(err, jetstream.ErrNoStreamResponse)
}

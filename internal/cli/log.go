package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"keenlantern.example/internal/store"
	"keenlantern.example/internal/store/jetstream"
	"keenlantern.example/internal/store/sqlite"
)

// logOptions name a log that several services share.
type logOptions struct{ jetstream.Config }

// flags adds the options that name one, and how it is begun.
func (o *logOptions) flags(f *flags) {
	o.connection(f)
	f.IntVar(&o.Replicas, "log-replicas", 0, "`NUMBER` of the log's servers that have each batch, when the log is begun; 0: 3")
	f.IntVar(&o.Partitions, "log-partitions", 0, "`NUMBER` of parts that streams are divided into among services, when the log is begun; 0: 64")
	f.Int64Var(&o.MaxBytes, "log-bytes", 0, "accept nothing more when all batches together take more than `SIZE` bytes in the log; 0: as before, at first without bound")
	f.DurationVar(&o.Lease, "log-lease", 0, "others take over the work of a service that has not been heard of for this `DURATION`, when the log is begun; 0: 10s")
	f.StringVar(&o.Address, "advertise", "", "`ADDRESS` that people are shown for this service, instead of where it listens")
}

// connection adds those that name one.
func (o *logOptions) connection(f *flags) {
	f.StringVar(&o.URL, "log", "", "share a log with other services: `ADDRESS` of a NATS server with JetStream, several with commas between (see docs/many-machines.md)")
	f.StringVar(&o.Credentials, "log-credentials", "", "`FILE` with the credentials for the log")
	f.StringVar(&o.CA, "log-ca", "", "`FILE` (PEM) with the certificate of who signs those of the log's servers")
	f.StringVar(&o.Cert, "log-cert", "", "`FILE` (PEM) with this service's own certificate for the log")
	f.StringVar(&o.Key, "log-key", "", "`FILE` (PEM) with the key of --log-cert")
	f.StringVar(&o.Name, "log-name", jetstream.DefaultName, "`NAME` of this installation, where several share the log's servers")
}

// check returns what is wrong with the options.
func (o *logOptions) check() error {
	switch {
	case o.URL == "" && (o.Credentials != "" || o.CA != "" || o.Cert != "" || o.Key != "" || o.Replicas != 0 || o.Partitions != 0 || o.MaxBytes != 0):
		return &usageError{"--log-credentials, --log-ca and the like belong to --log"}
	case (o.Cert == "") != (o.Key == ""):
		return &usageError{"--log-cert and --log-key belong together"}
	case o.Replicas < 0 || o.Replicas > 5:
		return &usageError{"--log-replicas is from 1 to 5"}
	case o.Partitions < 0 || o.Partitions > jetstream.MaxPartitions:
		return &usageError{fmt.Sprintf("--log-partitions is from 1 to %d", jetstream.MaxPartitions)}
	case o.MaxBytes < 0:
		return &usageError{"--log-bytes is not below 0"}
	case o.Lease != 0 && o.Lease < time.Second:
		return &usageError{"--log-lease is at least 1s"}
	}
	return nil
}

// where returns the option that names what a service keeps.
func (o *logOptions) where(data string) string {
	if o.URL != "" {
		return "--log " + jetstream.Redacted(o.URL)
	}
	return "--data " + data
}

// openBackend opens what a service keeps: its data folder, or the log that it shares.
func openBackend(ctx context.Context, data, address string, o logOptions, log *slog.Logger) (backend, error) {
	if o.URL == "" {
		return openData(ctx, data, log)
	}
	o.Folder, o.Version, o.Log = data, Version, log
	if o.Address == "" {
		o.Address = address
	}
	st, err := jetstream.Open(ctx, o.Config)
	if err != nil {
		return nil, fmt.Errorf("open the log: %w", err)
	}
	return st, nil
}

// openData opens a data folder, and repairs its database first where that is damaged.
func openData(ctx context.Context, data string, log *slog.Logger) (*sqlite.Store, error) {
	st, err := sqlite.Open(ctx, data)
	if errors.Is(err, store.ErrDamaged) {
		log.Error("the database is damaged, and is repaired from what can be read of it", "data", data, "error", err)
		found, aside, failed := sqlite.Repair(ctx, data, describeStream)
		if failed != nil {
			return nil, fmt.Errorf("repair the database in %s: %w; 'keenlantern salvage %s FOLDER' writes what can be read into files", data, failed, data)
		}
		log.Warn("the database was repaired", "recordings", len(found.Recordings), "streams", len(found.Streams), "damaged", aside)
		for _, text := range missing(found) {
			log.Error("lost: " + text)
		}
		st, err = sqlite.Open(ctx, data)
	}
	if err != nil {
		return nil, fmt.Errorf("open the data folder %s: %w", data, err)
	}
	left, _ := os.ReadDir(data)
	for _, e := range left { // no other service works in the folder now
		if strings.HasPrefix(e.Name(), sqlite.RepairPrefix) || strings.HasPrefix(e.Name(), backupPrefix) {
			_ = os.RemoveAll(filepath.Join(data, e.Name()))
		}
	}
	for _, text := range st.Lost() {
		log.Error("lost: " + text)
	}
	return st, nil
}

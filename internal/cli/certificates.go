package cli

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// certificates is the certificate that a service shows. It is read again when its files have changed, so that one that is
// renewed needs no restart; while the files do not belong together, the one before is shown.
type certificates struct {
	cert, key string
	log       *slog.Logger

	mu      sync.Mutex
	now     *tls.Certificate
	read    [2]time.Time // when the files had last been changed
	checked time.Time
}

// checkCertificate is how often the files are inspected.
const checkCertificate = 5 * time.Second

func loadCertificates(cert, key string, log *slog.Logger) (*certificates, error) {
	c := &certificates{cert: cert, key: key, log: log}
	if err := c.load(); err != nil {
		return nil, err
	}
	return c, nil
}

func (c *certificates) load() error {
	var read [2]time.Time
	for n, path := range []string{c.cert, c.key} {
		info, err := os.Stat(path)
		if err != nil {
			return fmt.Errorf("read the certificate: %w", err)
		}
		read[n] = info.ModTime()
	}
	if c.now != nil && read == c.read {
		return nil
	}
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return fmt.Errorf("read the certificate %s with its key %s: %w", c.cert, c.key, err)
	}
	if c.now != nil {
		c.log.Info("the certificate was read again", "file", c.cert)
	}
	c.now, c.read = &pair, read
	return nil
}

// get is for tls.Config.GetCertificate.
func (c *certificates) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.checked) > checkCertificate {
		c.checked = now
		if err := c.load(); err != nil {
			c.log.Error("the certificate cannot be read again; the one before is shown", "error", err)
		}
	}
	return c.now, nil
}

package daemon

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// certificate is that of https, as its files hold it: where they change, as when it is renewed, it is read again.
type certificate struct {
	cert, key string
	log       *slog.Logger

	mu     sync.Mutex
	now    *tls.Certificate
	of     [2]time.Time // when the files changed last
	readAt time.Time
}

// lookAgain is how often it is looked whether the files changed.
const lookAgain = 2 * time.Second

func newCertificate(cert, key string, log *slog.Logger) (*certificate, error) {
	if cert == "" || key == "" {
		return nil, fmt.Errorf("tls_cert and tls_key belong together: name both files")
	}
	c := &certificate{cert: cert, key: key, log: log}
	return c, c.read()
}

func (c *certificate) changed() (of [2]time.Time, err error) {
	for i, path := range []string{c.cert, c.key} {
		st, err := os.Stat(path)
		if err != nil {
			return of, err
		}
		of[i] = st.ModTime()
	}
	return of, nil
}

func (c *certificate) read() error {
	of, err := c.changed()
	if err != nil {
		return err
	}
	x, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return fmt.Errorf("the certificate in %s with the key in %s: %w", c.cert, c.key, err)
	}
	c.now, c.of = &x, of
	return nil
}

// get returns the certificate. New files that are no good are told, and the old ones count on.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.readAt) >= lookAgain {
		c.readAt = now
		if of, err := c.changed(); err != nil || of != c.of {
			if err == nil {
				err = c.read()
			}
			if err != nil {
				c.log.Error("the certificate cannot be read again; the one before counts on", "error", err)
			} else {
				c.log.Info("the certificate was read again", "until", c.now.Leaf.NotAfter)
			}
		}
	}
	return c.now, nil
}

// ends is until when the certificate is good that counts now.
func (c *certificate) ends() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now.Leaf.NotAfter
}

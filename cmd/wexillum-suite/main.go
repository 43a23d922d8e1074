// Command wexillum-suite is a small collaboration suite to be worked against: three programs, each with
// an interface, a page and words of its own. It shares no code with the service.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"wexillum.example/internal/suite"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run() error {
	dir := flag.String("dir", "", "where the programs keep what they hold; nothing is kept without it")
	key := flag.String("key", os.Getenv("WEXILLUM_SUITE_KEY"), "what the interfaces ask for (WEXILLUM_SUITE_KEY)")
	faster := flag.Float64("faster", 1, "by this factor everything that takes time is quicker")
	calls := flag.Int("calls", 0, "how many calls a minute each program takes; 0 for any number")
	house := flag.String("house", "", "the domain whose suite this is")
	asks := flag.String("asks", "", "address and port at which the counting house asks before each letter goes on; nobody without it")
	visitors := flag.Int("visitors", 0, "how many visitors an empty harbour holds already, each with a pass")
	withInput := flag.Bool("with-input", false, "end when the standard input ends, as it does with whoever started it")
	peers := map[string]string{}
	flag.Func("peer", "DOMAIN=ADDRESS of the parlour of another house, which must let go whoever comes from there; may be repeated",
		func(s string) error {
			domain, at, ok := strings.Cut(s, "=")
			if !ok {
				return errors.New("write DOMAIN=http://host:port")
			}
			peers[domain] = at
			return nil
		})
	addresses := map[string]*string{}
	for i, name := range []string{"quay", "parley", "ledger"} {
		addresses[name] = flag.String(name, fmt.Sprintf("127.0.0.1:%d", 8473+i), "address and port of "+name)
	}
	flag.Parse()
	if *key == "" {
		return errors.New("name what the interfaces are to ask for, with --key or WEXILLUM_SUITE_KEY")
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if *withInput {
		go func() {
			_, _ = io.Copy(io.Discard, os.Stdin)
			stop()
		}()
	}
	failed := make(chan error, 3)
	for name, p := range suite.New(suite.Options{Key: *key, Faster: *faster, Calls: *calls, House: *house, Peers: peers, Asks: *asks}) {
		if *dir != "" {
			if err := os.MkdirAll(*dir, 0o700); err != nil {
				return err
			}
			if err := p.Keep(filepath.Join(*dir, name+".json")); err != nil {
				return err
			}
		}
		if err := p.Settled(*visitors); err != nil {
			return err
		}
		l, err := net.Listen("tcp", *addresses[name])
		if err != nil {
			return err
		}
		fmt.Printf("%-7s http://%s\n", name, l.Addr())
		srv := &http.Server{Handler: p.Handler(), ReadHeaderTimeout: 10 * time.Second}
		go func() { failed <- srv.Serve(l) }()
	}
	select {
	case <-ctx.Done():
		return nil
	case err := <-failed:
		return err
	}
}

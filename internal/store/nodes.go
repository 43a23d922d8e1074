package store

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"
)

// watch knows of several database servers (Galera) which of them do not answer, and ends the connections to one that does not.
type watch struct {
	mu   sync.Mutex
	away map[string]time.Time         // until when it is passed over
	open map[string]map[net.Conn]bool // connections, by the server
	stop context.CancelFunc
}

// nodes connects to the first of several database servers that is with the others: all services name them in the same order, so that one of
// them is written to. It looks from the beginning at each connection, and passes over one that did not answer for a while.
type nodes struct {
	of []node
	*watch
}

type node struct {
	address string
	driver.Connector
}

const (
	passedOver  = 2 * time.Second // how long a node that did not answer is passed over
	elsewhere   = time.Minute     // how long a connection to another one than the first is kept, so that the first is gone back to
	connectsFor = 3 * time.Second // to one of several
	asksEvery   = time.Second     // whether a node answers
	answersIn   = 2 * time.Second
)

// newWatch begins to look whether nodes answer; end stops it.
func newWatch(c *mysql.Config, all []string) (*watch, error) {
	w := &watch{away: map[string]time.Time{}, open: map[string]map[net.Conn]bool{}}
	ctx, stop := context.WithCancel(context.Background())
	w.stop = stop
	for _, a := range all {
		x := c.Clone()
		x.Addr, x.Timeout, x.ReadTimeout, x.WriteTimeout, x.DialFunc = a, answersIn, answersIn, answersIn, nil
		x.Logger = log.New(io.Discard, "", 0)
		of, err := mysql.NewConnector(x)
		if err != nil {
			stop()
			return nil, err
		}
		go w.look(ctx, a, of)
	}
	return w, nil
}

func (w *watch) end() {
	if w != nil {
		w.stop()
	}
}

// look asks a node again and again, and has nobody wait for one that does not answer twice.
func (w *watch) look(ctx context.Context, address string, of driver.Connector) {
	fails := 0
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(asksEvery):
		}
		within, cancel := context.WithTimeout(ctx, answersIn)
		c, err := of.Connect(within)
		if err == nil {
			if err = with(within, c); err == nil {
				_ = c.Close()
			}
		}
		cancel()
		if err == nil {
			fails = 0
			continue
		}
		if fails++; fails >= 2 && ctx.Err() == nil {
			w.mu.Lock()
			w.away[address] = time.Now().Add(passedOver)
			for conn := range w.open[address] {
				_ = conn.Close()
			}
			w.mu.Unlock()
		}
	}
}

// watched is a connection over the network that is known while it is open.
type watched struct {
	net.Conn
	w       *watch
	address string
}

// Close is as of net.Conn.
func (k *watched) Close() error {
	k.w.mu.Lock()
	delete(k.w.open[k.address], k.Conn)
	k.w.mu.Unlock()
	return k.Conn.Close()
}

// dial connects, and knows the connection while it is open.
func (w *watch) dial(address string) func(ctx context.Context, network, to string) (net.Conn, error) {
	return func(ctx context.Context, network, to string) (net.Conn, error) {
		d := net.Dialer{Timeout: connectsFor}
		c, err := d.DialContext(ctx, network, to)
		if err != nil {
			return nil, err
		}
		w.mu.Lock()
		if w.open[address] == nil {
			w.open[address] = map[net.Conn]bool{}
		}
		w.open[address][c] = true
		w.mu.Unlock()
		return &watched{c, w, address}, nil
	}
}

// addresses are the servers that an address of a data source name names, separated by commas.
func addresses(c *mysql.Config) []string {
	if c.Net != "tcp" {
		return []string{c.Addr}
	}
	if !strings.Contains(c.Addr, ",") {
		return []string{c.Addr}
	}
	// The driver takes several for one that is written without a port, and adds it.
	text, cut := strings.CutPrefix(c.Addr, "[")
	if cut {
		text = strings.TrimSuffix(text, "]:3306")
	} else if _, last, _ := strings.Cut(text[strings.LastIndexByte(text, ',')+1:], ":"); strings.Contains(last, ":") {
		text = strings.TrimSuffix(text, ":3306")
	}
	all := strings.Split(text, ",")
	for i, a := range all {
		if a = strings.TrimSpace(a); !strings.Contains(a, ":") {
			a += ":3306"
		}
		all[i] = a
	}
	return all
}

// Connector connects to what a data source name names: one server, or the first of several.
func Connector(c *mysql.Config) (driver.Connector, error) { return connector(c, nil) }

// connector is Connector with what is known of several servers; nil begins anew and does not look on.
func connector(c *mysql.Config, w *watch) (driver.Connector, error) {
	all := addresses(c)
	if len(all) == 1 {
		return mysql.NewConnector(c)
	}
	if w == nil {
		w = &watch{away: map[string]time.Time{}, open: map[string]map[net.Conn]bool{}}
	}
	n := &nodes{watch: w}
	for _, a := range all {
		x := c.Clone()
		x.Addr, x.Timeout, x.DialFunc = a, min(x.Timeout, connectsFor), w.dial(a)
		of, err := mysql.NewConnector(x)
		if err != nil {
			return nil, err
		}
		n.of = append(n.of, node{a, of})
	}
	return n, nil
}

// Driver is as of driver.Connector.
func (n *nodes) Driver() driver.Driver { return n.of[0].Driver() }

// Connect connects to the first node that answers and is with the others; where all were passed over, each is tried again.
func (n *nodes) Connect(ctx context.Context) (driver.Conn, error) {
	var failed error
	for round := range 2 {
		for i := range n.of {
			x := &n.of[i]
			n.mu.Lock()
			over := time.Now().Before(n.away[x.address])
			n.mu.Unlock()
			if over != (round == 1) {
				continue
			}
			c, err := x.Connect(ctx)
			if err == nil {
				err = with(ctx, c)
			}
			if err == nil {
				n.mu.Lock()
				delete(n.away, x.address)
				n.mu.Unlock()
				return &nodeConn{Conn: c, of: n, address: x.address, first: i == 0, since: time.Now()}, nil
			}
			if ctx.Err() != nil {
				return nil, err
			}
			failed = errors.Join(failed, fmt.Errorf("%s: %w", x.address, err))
			n.passOver(x.address)
		}
	}
	return nil, failed
}

func (n *nodes) passOver(address string) {
	n.mu.Lock()
	n.away[address] = time.Now().Add(passedOver)
	n.mu.Unlock()
}

// with is an error where a node is not with the others; it closes the connection then.
func with(ctx context.Context, c driver.Conn) error {
	q, ok := c.(driver.QueryerContext)
	if !ok {
		return errors.New("the driver cannot ask")
	}
	rows, err := q.QueryContext(ctx, "SHOW STATUS LIKE 'wsrep_ready'", nil)
	if err == nil {
		row := make([]driver.Value, 2)
		err = rows.Next(row)
		if says, _ := row[1].([]byte); err == nil && string(says) != "ON" {
			err = errors.New("it is not with the others")
		}
		if errors.Is(err, io.EOF) { // one alone says nothing of others
			err = nil
		}
		_ = rows.Close()
	}
	if err != nil {
		_ = c.Close()
	}
	return err
}

// notWith is the error of a node that is not with the others: nothing was done.
const notWith = 1047

// nodeConn is a connection to one of several nodes. One whose node leaves the others is used no more.
type nodeConn struct {
	driver.Conn
	of      *nodes
	address string
	first   bool
	since   time.Time
	gone    bool
}

// left notes that the node is not with the others any more.
func (c *nodeConn) left(err error) error {
	var e *mysql.MySQLError
	if errors.As(err, &e) && e.Number == notWith {
		c.gone = true
		c.of.passOver(c.address)
	} else if err != nil && TroubleOf(err) == Away {
		c.of.passOver(c.address)
	}
	return err
}

// IsValid is as of driver.Validator: whether it is used again.
func (c *nodeConn) IsValid() bool {
	if c.gone || !c.first && time.Since(c.since) > elsewhere {
		return false
	}
	v, ok := c.Conn.(driver.Validator)
	return !ok || v.IsValid()
}

// ResetSession is as of driver.SessionResetter.
func (c *nodeConn) ResetSession(ctx context.Context) error {
	if r, ok := c.Conn.(driver.SessionResetter); ok {
		return c.left(r.ResetSession(ctx))
	}
	return nil
}

// Ping is as of driver.Pinger.
func (c *nodeConn) Ping(ctx context.Context) error {
	if p, ok := c.Conn.(driver.Pinger); ok {
		return c.left(p.Ping(ctx))
	}
	return nil
}

// BeginTx is as of driver.ConnBeginTx.
func (c *nodeConn) BeginTx(ctx context.Context, o driver.TxOptions) (driver.Tx, error) {
	tx, err := c.Conn.(driver.ConnBeginTx).BeginTx(ctx, o)
	return tx, c.left(err)
}

// PrepareContext is as of driver.ConnPrepareContext.
func (c *nodeConn) PrepareContext(ctx context.Context, q string) (driver.Stmt, error) {
	s, err := c.Conn.(driver.ConnPrepareContext).PrepareContext(ctx, q)
	return s, c.left(err)
}

// QueryContext is as of driver.QueryerContext.
func (c *nodeConn) QueryContext(ctx context.Context, q string, args []driver.NamedValue) (driver.Rows, error) {
	r, err := c.Conn.(driver.QueryerContext).QueryContext(ctx, q, args)
	return r, c.left(err)
}

// ExecContext is as of driver.ExecerContext.
func (c *nodeConn) ExecContext(ctx context.Context, q string, args []driver.NamedValue) (driver.Result, error) {
	r, err := c.Conn.(driver.ExecerContext).ExecContext(ctx, q, args)
	return r, c.left(err)
}

// CheckNamedValue is as of driver.NamedValueChecker.
func (c *nodeConn) CheckNamedValue(v *driver.NamedValue) error {
	return c.Conn.(driver.NamedValueChecker).CheckNamedValue(v)
}

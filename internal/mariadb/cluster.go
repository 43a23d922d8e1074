package mariadb

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"time"

	"wexillum.example/internal/freeport"
)

// Node is one of several servers that hold the same (Galera), for trying out what happens when one fails. It needs Debian's galera-4.
type Node struct {
	*Server
	dir   string
	ports [3]int // of the group, of catching up, of the database
	group string
	host  string   // where the others find it
	net   *Network // nil where all are on the machine's own
	i     int
}

// Cluster starts nodes in folders below dir, all with the same empty data. Whoever starts it stops its nodes. apart says why they have no
// network of their own, which can be cut: see Cut; nil where they do.
func Cluster(ctx context.Context, dir string, n int) (nodes []*Node, apart, err error) {
	own, apart := NewNetwork(ctx, n)
	if apart != nil {
		own = nil
	}
	nodes, err = cluster(ctx, dir, n, own)
	return nodes, apart, err
}

func cluster(ctx context.Context, dir string, n int, own *Network) (nodes []*Node, err error) {
	var group []string
	for i := range n {
		x := &Node{dir: filepath.Join(dir, fmt.Sprint("node", i+1)), host: "127.0.0.1", net: own, i: i}
		if own != nil {
			x.host = fmt.Sprint("10.0.0.", i+1)
		}
		for k := range x.ports {
			if x.ports[k], err = freeport.Find(); err != nil {
				return nil, err
			}
		}
		group = append(group, fmt.Sprint(x.host, ":", x.ports[0]))
		nodes = append(nodes, x)
	}
	for _, x := range nodes {
		x.group = "gcomm://" + strings.Join(group, ",")
	}
	if err := transfers(ctx); err != nil {
		return nil, err
	}
	// All begin with the same data, so that none has to be copied whole from another.
	first := nodes[0]
	if err := first.begin(ctx, true); err != nil {
		return nil, err
	}
	if err := first.Stop(); err != nil {
		return nil, err
	}
	for _, x := range nodes[1:] {
		if out, err := exec.CommandContext(ctx, "cp", "-a", first.dir, x.dir).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%w\n%s", err, out)
		}
	}
	// Where an administrator of the machine runs it, the program that hands over runs as nobody.
	open := []string{dir}
	for _, x := range nodes {
		open = append(open, x.dir, filepath.Join(x.dir, "data"))
	}
	for _, d := range open {
		if err := os.Chmod(d, 0o777); err != nil {
			return nil, err
		}
	}
	for i, x := range nodes {
		if err := x.begin(ctx, i == 0); err != nil {
			return nodes, err
		}
	}
	return nodes, nil
}

// transfers has the programs at hand by which a node catches up with another: they come with Debian's mariadb-server, which would start a
// server where it is installed; so it is unpacked into the user's cache, and its folder comes first in PATH.
func transfers(ctx context.Context) error {
	if _, err := exec.LookPath("wsrep_sst_rsync"); err == nil {
		return nil
	}
	dir, err := os.UserCacheDir()
	if err != nil {
		return err
	}
	dir = filepath.Join(dir, "wexillum-cluster")
	bin := filepath.Join(dir, "usr", "bin")
	if _, err := os.Stat(filepath.Join(bin, "wsrep_sst_rsync")); err != nil {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		get := exec.CommandContext(ctx, "sh", "-c", "apt-get download -qq mariadb-server && dpkg-deb -x mariadb-server_*.deb .")
		get.Dir = dir
		if out, err := get.CombinedOutput(); err != nil {
			return fmt.Errorf("the programs by which nodes catch up cannot be fetched: %w\n%s", err, out)
		}
	}
	return os.Setenv("PATH", bin+string(os.PathListSeparator)+os.Getenv("PATH"))
}

// begin starts the node: as the first one of a new group, or to join the others.
func (x *Node) begin(ctx context.Context, anew bool, more ...string) (err error) {
	group := x.group
	if anew {
		group = "gcomm://"
	}
	var by []string
	if x.net != nil {
		by = x.net.In(x.i)
	}
	x.Server, err = startIn(ctx, x.dir, by, append([]string{
		fmt.Sprint("--port=", x.ports[2]),
		"--wsrep-on=ON", "--wsrep-provider=/usr/lib/galera/libgalera_smm.so", "--wsrep-cluster-name=wexillum", "--wsrep-cluster-address=" + group,
		"--wsrep-node-address=" + x.host + ":" + fmt.Sprint(x.ports[0]), "--wsrep-sst-method=rsync", "--binlog-format=ROW",
		"--innodb-autoinc-lock-mode=2", "--innodb-flush-log-at-trx-commit=1",
		"--wsrep-provider-options=gmcast.listen_addr=tcp://" + x.host + ":" + fmt.Sprint(x.ports[0]) + ";ist.recv_addr=" + x.host + ":" +
			fmt.Sprint(x.ports[1]) +
			";gcache.size=64M;gcache.recover=yes;evs.keepalive_period=PT0.3S;evs.suspect_timeout=PT3S;evs.inactive_timeout=PT8S;evs.install_timeout=PT8S;pc.recovery=yes",
	}, more...)...)
	if err != nil {
		return err
	}
	return x.Joined(ctx, 1)
}

// Joined waits until the node is with so many others, itself among them, and has caught up.
func (x *Node) Joined(ctx context.Context, n int) error {
	db, err := sql.Open("mysql", x.DSN(""))
	if err != nil {
		return err
	}
	defer db.Close()
	for {
		var name, says string
		err := db.QueryRowContext(ctx, "SHOW STATUS LIKE 'wsrep_ready'").Scan(&name, &says)
		if err == nil && says == "ON" {
			size := 0
			if err = db.QueryRowContext(ctx, "SHOW STATUS LIKE 'wsrep_cluster_size'").Scan(&name, &size); err == nil && size >= n {
				return nil
			}
		}
		select {
		case e := <-x.exited:
			return fmt.Errorf("the node ended while it joined: %v\n%s", e, x.tail())
		case <-ctx.Done():
			return fmt.Errorf("the node does not join: %v %s\n%s", err, says, x.tail())
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Again starts the node after it was killed: from where its data stands, as the first of a new group where it is to be.
func (x *Node) Again(ctx context.Context, anew bool) error {
	at, err := x.stands(ctx)
	if err != nil {
		return err
	}
	if anew { // whoever starts it knows that it is the last that stood
		state := filepath.Join(x.dir, "data", "grastate.dat")
		text, err := os.ReadFile(state)
		if err != nil {
			return err
		}
		if err := os.WriteFile(state, bytes.Replace(text, []byte("safe_to_bootstrap: 0"), []byte("safe_to_bootstrap: 1"), 1), 0o600); err != nil {
			return err
		}
	}
	return x.begin(ctx, anew, "--wsrep-start-position="+at)
}

var position = regexp.MustCompile(`Recovered position: (\S+:-?\d+)`)

// stands finds out how far the data of a node that is not running goes: the group's id and a number.
func (x *Node) stands(ctx context.Context) (string, error) {
	log := filepath.Join(x.dir, "recover.log")
	_ = os.Remove(log)
	bin, err := find("mariadbd", "/usr/sbin/mariadbd")
	if err != nil {
		return "", err
	}
	out, err := exec.CommandContext(ctx, bin, "--no-defaults", "--user="+x.user, "--datadir="+filepath.Join(x.dir, "data"),
		"--tmpdir="+filepath.Join(x.dir, "tmp"), "--innodb-log-file-size=64M",
		"--wsrep-on=ON", "--wsrep-provider=/usr/lib/galera/libgalera_smm.so", "--binlog-format=ROW", "--wsrep-cluster-address="+x.group,
		"--wsrep-recover", "--log-error="+log, "--skip-networking", "--socket="+filepath.Join(x.dir, "recover.sock")).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("where it stands is not found: %w\n%s", err, out)
	}
	text, err := os.ReadFile(log)
	if err != nil {
		return "", err
	}
	m := position.FindAllSubmatch(text, -1)
	if m == nil {
		return "", errors.New("where it stands is not found")
	}
	return string(m[len(m)-1][1]), nil
}

// Stands is how far the data of a node that is not running goes.
func (x *Node) Stands(ctx context.Context) (n int64, err error) {
	at, err := x.stands(ctx)
	if err != nil {
		return 0, err
	}
	_, err = fmt.Sscan(at[strings.LastIndexByte(at, ':')+1:], &n)
	return n, err
}

// Kill ends the node at once, as when the power goes.
func (x *Node) Kill() {
	_ = x.cmd.Process.Kill()
	<-x.exited
	_ = x.log.Close()
}

// Freeze has the node do nothing and say nothing until Thaw, as when the network to it is cut.
func (x *Node) Freeze() { _ = x.cmd.Process.Signal(syscall.SIGSTOP) }

// Thaw lets it go on.
func (x *Node) Thaw() { _ = x.cmd.Process.Signal(syscall.SIGCONT) }

// Socket is where the database is reached on this machine, whatever network the node has.
func (x *Node) Socket() string { return x.socket }

// Cut pulls the node's cable: the others and it hear nothing of each other, while it goes on and is reached by its socket. Mend puts it
// back.
func (x *Node) Cut() error { return x.net.cable(x.i, false) }

// Mend puts the node's cable back.
func (x *Node) Mend() error { return x.net.cable(x.i, true) }

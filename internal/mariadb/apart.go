package mariadb

import (
	"context"
	"fmt"
	"os/exec"
	"runtime"
	"strings"
	"syscall"
)

// Network is one of its own for each node of a cluster, and a switch between them: what goes from node to node is cut by pulling a cable of
// that switch, and nothing of the machine's own network is touched. It needs an administrator, and Debian's iproute2.
type Network struct {
	hub   *exec.Cmd   // has the switch
	nodes []*exec.Cmd // have a cable each
}

// held starts a process that does nothing but hold a network namespace.
func held() (*exec.Cmd, error) {
	c := exec.Command("sleep", "infinity")
	c.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET, Pdeathsig: syscall.SIGKILL}
	started := make(chan error, 1)
	go func() { // Pdeathsig follows the thread that started the child
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		err := c.Start()
		if started <- err; err == nil {
			_ = c.Wait()
		}
	}()
	return c, <-started
}

// in is a command in the namespace that a process holds.
func in(holder *exec.Cmd, command ...string) []string {
	return append([]string{"nsenter", "--target", fmt.Sprint(holder.Process.Pid), "--net"}, command...)
}

// NewNetwork makes one for so many nodes, which have the addresses 10.0.0.1 and so on in it. It goes when ctx ends.
func NewNetwork(ctx context.Context, n int) (x *Network, err error) {
	x = &Network{}
	defer func() {
		if err != nil {
			x.close()
		}
	}()
	run := func(holder *exec.Cmd, line string) error {
		args := in(holder, append([]string{"ip"}, strings.Fields(line)...)...)
		if out, err := exec.CommandContext(ctx, args[0], args[1:]...).CombinedOutput(); err != nil {
			return fmt.Errorf("ip %s: %w: %s", line, err, strings.TrimSpace(string(out)))
		}
		return nil
	}
	if x.hub, err = held(); err != nil {
		return x, err
	}
	for _, line := range []string{"link add switch type bridge", "link set switch up"} {
		if err = run(x.hub, line); err != nil {
			return x, err
		}
	}
	for i := range n {
		node, err := held()
		if err != nil {
			return x, err
		}
		x.nodes = append(x.nodes, node)
		for _, s := range []struct {
			holder *exec.Cmd
			line   string
		}{
			{x.hub, fmt.Sprintf("link add cable%d type veth peer name eth0 netns %d", i+1, node.Process.Pid)},
			{x.hub, fmt.Sprintf("link set cable%d master switch up", i+1)},
			{node, "link set lo up"},
			{node, fmt.Sprintf("addr add 10.0.0.%d/24 dev eth0", i+1)},
			{node, "link set eth0 up"},
		} {
			if err := run(s.holder, s.line); err != nil {
				return x, err
			}
		}
	}
	context.AfterFunc(ctx, x.close)
	return x, nil
}

// In is what comes before a command that is to run in the network of a node, counted from 0.
func (x *Network) In(i int) []string { return in(x.nodes[i]) }

// cable pulls the cable of a node, or puts it back.
func (x *Network) cable(i int, there bool) error {
	state := "down"
	if there {
		state = "up"
	}
	args := in(x.hub, "ip", "link", "set", fmt.Sprintf("cable%d", i+1), state)
	if out, err := exec.Command(args[0], args[1:]...).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

func (x *Network) close() {
	for _, c := range append([]*exec.Cmd{x.hub}, x.nodes...) {
		if c != nil && c.Process != nil {
			_ = c.Process.Kill()
		}
	}
}

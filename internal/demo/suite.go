package demo

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"wexillum.example/internal/service"
)

// SuiteKey names the environment variable with the key of the demo's suite.
const SuiteKey = "WEXILLUM_SUITE_KEY"

// SuiteFaster is by how much everything in the demo's suite that takes time is quicker: an hour is a
// minute there.
const SuiteFaster = 60

// The house of the demo, and that of the partner whose chat stands beside it.
const (
	ourHouse      = "brackwater.example"
	partnersHouse = "oskelund.example"
)

// suites are the programs of the suite, in the order in which they are told.
var suites = []service.System{
	{ID: "quay", Name: "The harbour", Dialect: "quay"},
	{ID: "parley", Name: "The parlour", Dialect: "parley"},
	{ID: "ledger", Name: "The counting house", Dialect: "ledger"},
}

// Suites starts the demo's suite and that of a partner, of which the chat alone is used: before somebody of
// theirs may write to us, their house must let them go. It returns where ours are served, and where theirs
// is. asks is where our counting house may ask before a letter goes on.
func Suites(ctx context.Context, dir, key string, listen map[string]string, theirsAt, asks string) (ours map[string]string, theirs string, stop func(), err error) {
	none := map[string]string{}
	for name := range listen {
		none[name] = "127.0.0.1:0"
	}
	none["parley"] = theirsAt
	second, stopTheirs, err := suite(ctx, filepath.Join(dir, "theirs"), key, none, "--house", partnersHouse)
	if err != nil {
		return nil, "", nil, err
	}
	args := []string{"--house", ourHouse, "--asks", asks}
	if at := second["parley"]; at != "" {
		args = append(args, "--peer", partnersHouse+"="+at)
	}
	ours, stopOurs, err := suite(ctx, dir, key, listen, args...)
	if err != nil {
		stopTheirs()
		return nil, "", nil, err
	}
	return ours, second["parley"], func() { stopOurs(); stopTheirs() }, nil
}

// suite starts one suite, a program of its own that stands beside this one, and returns where each of its
// programs is served. No addresses and no error are returned where it is not there.
func suite(ctx context.Context, dir, key string, listen map[string]string, more ...string) (addresses map[string]string, stop func(), err error) {
	self, err := os.Executable()
	if err != nil {
		return nil, nil, err
	}
	program := filepath.Join(filepath.Dir(self), "wexillum-suite")
	if _, err := os.Stat(program); err != nil {
		return nil, func() {}, nil
	}
	args := append([]string{"--dir", dir, "--faster", fmt.Sprint(SuiteFaster)}, more...)
	for name, at := range listen {
		args = append(args, "--"+name, at)
	}
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Env = append(os.Environ(), SuiteKey+"="+key)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, nil, err
	}
	stop = func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	addresses = map[string]string{}
	told := make(chan struct{})
	go func() {
		defer close(told)
		for lines := bufio.NewScanner(out); len(addresses) < len(suites) && lines.Scan(); {
			if name, at, ok := strings.Cut(lines.Text(), " "); ok {
				addresses[name] = strings.TrimSpace(at)
			}
		}
	}()
	select {
	case <-told:
	case <-time.After(10 * time.Second):
	}
	if len(addresses) < len(suites) {
		stop()
		return nil, nil, errors.New("the suite of the demo did not start; see what it says above")
	}
	return addresses, stop, nil
}

// Systems adds the programs of the suite as systems, where they are not there yet: the harbour and the
// parlour are carried, the counting house is looked at.
func Systems(ctx context.Context, svc *service.Service, addresses map[string]string) error {
	who := service.Who{Name: "demo", Role: service.Administrator}
	for _, x := range suites {
		at := addresses[x.ID]
		if at == "" {
			continue
		}
		if old, err := svc.System(ctx, x.ID); err == nil {
			if old.Address != at {
				if _, err := svc.ChangeSystem(ctx, who, "where the demo's suite is", x.ID, service.SystemPatch{Address: &at}); err != nil {
					return err
				}
			}
			continue
		}
		x.Address, x.Key, x.Minutes = at, "env:"+SuiteKey, 1
		v, err := svc.AddSystem(ctx, who, "the suite of the demo", x)
		if err != nil {
			return err
		}
		if x.ID == "ledger" {
			continue
		}
		carry := service.ModeCarry
		if _, err := svc.ChangeSystem(ctx, who, "it is to follow what is published", x.ID, service.SystemPatch{Mode: &carry, Digest: v.Digest}); err != nil {
			return err
		}
	}
	return nil
}

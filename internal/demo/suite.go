package demo

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/native"
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
func Suites(ctx context.Context, dir, key string, listen map[string]string, theirsAt, asks string) (ours map[string]string, theirs string,
	stop func(), err error) {
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
func suite(ctx context.Context, dir, key string, listen map[string]string, more ...string) (addresses map[string]string, stop func(),
	err error) {
	args := append([]string{"--dir", dir, "--faster", fmt.Sprint(SuiteFaster)}, more...)
	for name, at := range listen {
		args = append(args, "--"+name, at)
	}
	return program(ctx, "wexillum-suite", []string{SuiteKey + "=" + key}, names(suites), 10*time.Second, nil, args...)
}

func names(list []service.System) (out []string) {
	for _, x := range list {
		out = append(out, x.ID)
	}
	return
}

// program starts a program that stands beside this one, which says in lines where each of what it starts is served:
// NAME ADDRESS. What else it says is handed to also. No addresses and no error are returned where it is not there.
func program(ctx context.Context, name string, env, wanted []string, patience time.Duration, also func(string),
	args ...string) (addresses map[string]string, stop func(), err error) {
	self, err := os.Executable()
	if err != nil {
		return nil, nil, err
	}
	path := filepath.Join(filepath.Dir(self), name)
	if _, err := os.Stat(path); err != nil {
		return nil, func() {}, nil
	}
	cmd := exec.CommandContext(ctx, path, append(args, "--with-input")...)
	cmd.Env = append(os.Environ(), env...)
	cmd.Stderr = os.Stderr
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) } // so that it ends what it started
	cmd.WaitDelay = 10 * time.Second
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, nil, err
	}
	if _, err := cmd.StdinPipe(); err != nil { // it ends with us, however we end
		return nil, nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, nil, err
	}
	stop = func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	}
	told := make(chan map[string]string)
	go func() {
		found := map[string]string{}
		lines := bufio.NewScanner(out)
		for lines.Scan() {
			id, at, _ := strings.Cut(lines.Text(), " ")
			switch {
			case slices.Contains(wanted, id):
				if found[id] = strings.TrimSpace(at); len(found) == len(wanted) {
					told <- found
				}
			case also != nil:
				also(lines.Text())
			}
		}
		if len(found) < len(wanted) {
			close(told)
		}
	}()
	select {
	case addresses = <-told:
	case <-time.After(patience):
	case <-ctx.Done():
	}
	if addresses == nil {
		stop()
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		return nil, nil, fmt.Errorf("%s did not start; see what it says above", name)
	}
	return addresses, stop, nil
}

// real are the servers that others wrote, in the order in which they are told.
var real = []service.System{
	{ID: "directory", Name: "The directory (LDAP)", Dialect: native.Described},
	{ID: "files", Name: "Files (WebDAV)", Dialect: native.Described},
	{ID: "chat", Name: "Chat (XMPP)", Dialect: native.Described},
	{ID: "calendars", Name: "Calendars (CalDAV)", Dialect: native.Described},
	{ID: "mail", Name: "Mail that goes on (SMTP)", Dialect: native.Described},
	{ID: "meetings", Name: "Meetings (WebRTC)", Dialect: native.Described},
}

// realPartner is whose chat runs beside ours as another server.
const realPartner = "ilvane.example"

// Real starts real servers of every kind, with a program beside each that speaks for it, and the counting house of the
// suite that ships, since no open server carries reports. What the servers say of themselves is handed to also.
func Real(ctx context.Context, dir, key, ledgerAt, asks, outside, decides string, also func(string)) (addresses map[string]string,
	stop func(), err error) {
	none := map[string]string{"quay": "127.0.0.1:0", "parley": "127.0.0.1:0", "ledger": ledgerAt}
	ours, stopOurs, err := suite(ctx, dir, key, none, "--house", ourHouse, "--asks", asks)
	if err != nil {
		return nil, nil, err
	}
	addresses, stopReal, err := program(ctx, "wexillum-beside", []string{"WEXILLUM_BESIDE_KEY=" + key}, names(real), 10*time.Minute, also,
		"suite", "--domain", ourHouse, "--partner", realPartner, "--outside", port(outside), "--asks", port(asks), "--service", "http://"+decides,
		"--decisions-token-file", TokenFile(dir))
	if err != nil || addresses == nil {
		stopOurs()
		return nil, nil, cmp.Or(err, errors.New("wexillum-beside is not there; build it with make build"))
	}
	addresses["ledger"] = ours["ledger"]
	return addresses, func() { stopReal(); stopOurs() }, nil
}

// TokenFile is where in the folder of the suite the token is with which its servers ask for decisions.
func TokenFile(dir string) string { return filepath.Join(dir, "decisions.token") }

// Decides puts a token into the folder of the suite with which its servers ask for decisions, where none is there yet.
func Decides(ctx context.Context, svc *service.Service, dir string) error {
	if _, err := os.Stat(TokenFile(dir)); err == nil {
		return nil
	}
	token, _, err := svc.MakeToken(ctx, service.Who{Name: Accounts[0].Name, Role: service.Administrator}, "conference server", "decisions",
		90*24*time.Hour)
	if err != nil {
		return err
	}
	return os.WriteFile(TokenFile(dir), []byte(token), 0o600)
}

func port(address string) string { return address[strings.LastIndexByte(address, ':')+1:] }

// Systems adds the programs of the suite as systems, where they are not there yet: the harbour and the
// parlour are carried, the counting house is looked at.
func Systems(ctx context.Context, svc *service.Service, addresses map[string]string) error {
	who := service.Who{Name: "demo", Role: service.Administrator}
	for _, x := range append(slices.Clone(suites), real...) {
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
		if _, err := svc.ChangeSystem(ctx, who, "it is to follow what is published", x.ID,
			service.SystemPatch{Mode: &carry, Digest: v.Digest}); err != nil {
			return err
		}
	}
	return nil
}

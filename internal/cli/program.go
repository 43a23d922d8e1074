package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"syscall"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
)

// Program is what the client leaves to the program of the service, which stands beside it: so it starts without all that
// a service needs.
type Program struct {
	Commands func(*Terminal) []*cobra.Command // start, serve, demo and the like
	Accounts func(*Terminal) []*cobra.Command // of accounts, on the database itself
	Choices  func(s *engine.Snapshot, rule, where, person, party string, at moment.Moment) (contract.Choices, error)
}

// Terminal is what commands of the service's program use of the client.
type Terminal struct{ app *app }

// Out is where answers go.
func (t *Terminal) Out() io.Writer { return t.app.out }

// Err is where errors and progress go.
func (t *Terminal) Err() io.Writer { return t.app.err }

// Say tells what was done, to people.
func (t *Terminal) Say(format string, args ...any) { t.app.say(format, args...) }

// Printf writes whatever the output is for.
func (t *Terminal) Printf(format string, args ...any) { t.app.printf(format, args...) }

// NewPassword asks for a password, or reads it from the standard input.
func (t *Terminal) NewPassword() (string, error) { return t.app.newPassword() }

// Records prints data as the output is wanted.
func (t *Terminal) Records(data any, columns []string, rows [][]string) error {
	return t.app.records(data, columns, rows)
}

// Usage makes an error wrong use.
func Usage(err error) error { return usage{err} }

// Found ends a command that has said what is not as it should be.
func Found() error { return exit(statusNo) }

// besides are the commands that run in the program of the service, with what the help says of them.
var besides = []struct{ name, short string }{
	{"start", "Run an installation of your own, with a database in a directory; begins with nothing"},
	{"serve", "Run the service on a MariaDB database"},
	{"demo", "Run the service with the demo world and a database of its own"},
	{"schema", "The schema of the database"},
	{"seal-key", "Make the key that seals what must be readable again in the database, or a new one beside it"},
	{"backup", "Write everything into one encrypted file while the service runs, and verify such files"},
	{"restore", "Bring a backup back to an empty database"},
	{"doctor", "Look at an installation: what is wrong with it, and what to do"},
	{"generate", "Generate a world of any size from a seed, as a file or into an empty database"},
	{"man", "Write the manual pages of every command into a folder"},
	{"recover", "Let somebody in again who is locked out, directly in the database: a new password, no second factor"},
	{"first", "Create the first administrator of a new installation, directly in its database"},
}

// About is what the help says of a command of the service's program, here and there.
func About(name string) string {
	for _, x := range besides {
		if x.name == name {
			return x.short
		}
	}
	panic("cli: nothing is said of " + name)
}

// beside makes a command that goes on as the program of the service does it.
func (a *app) beside(use, short string) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, DisableFlagParsing: true, RunE: func(*cobra.Command, []string) error { return a.over() }}
}

// over goes on as the program of the service, which stands beside this one, with the same arguments. It does not
// return where that can be started.
func (a *app) over() error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	if self, err = filepath.EvalSymlinks(self); err != nil {
		return err
	}
	other := filepath.Join(filepath.Dir(self), "wexillum-service")
	err = syscall.Exec(other, os.Args, os.Environ())
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("this is done by the program of the service, %s, which is not there", other)
	}
	return fmt.Errorf("%s cannot be started: %w", other, err)
}

// Tree is all commands of the client, for whoever describes them.
func Tree() *cobra.Command { return (&app{out: io.Discard, err: io.Discard}).root() }

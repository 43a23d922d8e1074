// Package daemon is the commands that run the service: with a database of theirs or of their own, with the
// demo, and on the database itself. The client does without them, and without all that they need.
package daemon

import (
	"github.com/spf13/cobra"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/cli"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/service"
)

// app is a terminal on which a command that runs the service runs.
type app struct{ *cli.Terminal }

func usage(err error) error { return cli.Usage(err) }

// Program is what the client leaves to the service's own program.
var Program = cli.Program{
	Commands: func(t *cli.Terminal) []*cobra.Command {
		a := &app{t}
		return []*cobra.Command{a.start(), a.serve(), a.demo(), a.schema(), a.generate(), a.sealKey(), a.backup(), a.restore(), a.doctor()}
	},
	Accounts: func(t *cli.Terminal) []*cobra.Command {
		a := &app{t}
		return []*cobra.Command{a.firstAccount(), a.recoverAccount()}
	},
	Choices: func(s *engine.Snapshot, rule, where, person, party string, at moment.Moment) (contract.Choices, error) {
		y, err := (&service.State{Snapshot: s}).Choosing(rule, where, person, party, at)
		if err != nil {
			return contract.Choices{}, err
		}
		return answer.Choices(s, y.Chain, y.Layer, y.Where, y.About), nil
	},
}

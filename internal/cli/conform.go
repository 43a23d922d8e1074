package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/connector/conform"
	"wexillum.example/internal/secret"
)

// systemConform asks a program that stands beside a suite whether it does what the contract says.
func (a *app) systemConform() *cobra.Command {
	var key, from string
	c := &cobra.Command{
		Use:   "conform URL",
		Short: "Ask a program beside a suite of one's own whether it does what the contract says",
		Long: `Puts a program that speaks the contract (docs/connector.md) through everything that the contract asks of it. It writes
every setting and puts it back, and makes records and takes them away: not with a suite that people use.

It asks the program itself and needs no service. The exit status is 3 where the program does something else.`,
		Example: "  wexillum system conform http://127.0.0.1:8480 --key file:beside.key",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			token, err := secret.At(key)
			if err != nil {
				return usage{fmt.Errorf("--key: %w", err)}
			}
			if !a.yes && !a.confirmed("It writes every setting there and puts it back, and makes records and takes them away. Go on?") {
				return errors.New("nothing was asked")
			}
			n, wrong := 0, 0
			rows := [][]string{}
			err = conform.Run(c.Context(), args[0], token, from, func(x conform.Check) {
				n++
				row := []string{"▲ yes", x.What, ""}
				if x.Wrong != "" {
					wrong++
					row = []string{"▼ no", x.What, x.Wrong}
				}
				rows = append(rows, row)
				if a.output == "table" {
					a.say("%s", strings.TrimRight(strings.Join(row, "  "), " "))
				}
			})
			if err != nil && !errors.Is(err, context.Canceled) {
				return err
			}
			if a.output != "table" {
				if err := a.records(rows, []string{"done", "what", "wrong"}, rows); err != nil {
					return err
				}
			} else {
				a.say("%d of %d do what the contract says.", n-wrong, n)
			}
			if wrong > 0 {
				return exit(3)
			}
			return err
		},
	}
	c.Flags().StringVar(&key, "key", "", "where its key is: file:PATH or env:NAME")
	c.Flags().StringVar(&from, "from", "", "whom trials come from, where the suite has an account for it")
	_ = c.MarkFlagRequired("key")
	return c
}

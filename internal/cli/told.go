package cli

import (
	"strconv"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

// partnerTold lists what a partner's systems told of their people.
func (a *app) partnerTold() *cobra.Command {
	var before, limit int
	c := &cobra.Command{Use: "told ID",
		Short: "What a partner's systems told of their people: accounts disabled, enabled, gone, sessions revoked", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			p := &contract.ToldEventsParams{Limit: &limit}
			if before > 0 {
				p.Before = &before
			}
			resp, err := r.ToldEvents(c.Context(), args[0], p)
			var x struct {
				Events []contract.ToldEvent `json:"events"`
				URL    string               `json:"url"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if len(x.Events) == 0 && a.output == "table" {
				a.say("They told of nothing yet. Their systems push events to %s, signed with the keys of their statement.", x.URL)
				return nil
			}
			rows := [][]string{}
			for i := range x.Events {
				e := &x.Events[i]
				rows = append(rows, []string{strconv.Itoa(e.N), string(e.Kind), pick(e.Address), day(e.Happened), day(e.Came), string(e.Result),
					pick(e.Detail)})
			}
			return a.records(x.Events, []string{"no", "what", "who", "happened", "came", "became", "detail"}, rows)
		}}
	c.Flags().IntVar(&before, "before", 0, "those before this one")
	c.Flags().IntVar(&limit, "limit", 50, "at most so many, up to 1000")
	return c
}

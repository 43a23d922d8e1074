package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/event"
)

var webhookColumns = []string{"id", "name", "address", "topics", "state", "took", "waits", "problem"}

// webhookRow writes a receiver as a line of the list.
func webhookRow(x *contract.Webhook) []string {
	topics := []string{}
	for _, t := range x.Topics {
		topics = append(topics, string(t))
	}
	if len(topics) == 0 {
		topics = []string{"all"}
	}
	if x.Partner != nil {
		topics = []string{"accounts of our people, for " + *x.Partner}
	}
	problem := pick(x.Problem)
	if x.Next != nil && problem != "" {
		problem += "; again at " + *x.Next
	}
	return []string{x.Id, x.Name, x.Address, strings.Join(topics, ", "), string(x.State), fmt.Sprint(x.Count), fmt.Sprint(x.Waits), problem}
}

func (a *app) webhook() *cobra.Command {
	c := &cobra.Command{Use: "webhook", Short: "Receivers that are told of what happens, by signed events"}
	c.AddCommand(&cobra.Command{Use: "list", Short: "All receivers, and how far each was told", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ListWebhooks(c.Context())
			var x contract.Webhooks
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output == "table" && len(x.Webhooks) == 0 {
				a.say("Nobody is told. Add a receiver with wexillum webhook add; topics are:")
				for _, t := range x.Topics {
					a.say("  %-12s %s", t.Topic, t.Says)
				}
				return nil
			}
			rows := [][]string{}
			for i := range x.Webhooks {
				rows = append(rows, webhookRow(&x.Webhooks[i]))
			}
			return a.records(x.Webhooks, webhookColumns, rows)
		}})
	var name, address, key, partner, why string
	var topics []string
	var paused bool
	chosen := func() []contract.EventTopic {
		out := []contract.EventTopic{}
		for _, t := range topics {
			out = append(out, contract.EventTopic(t))
		}
		return out
	}
	show := func(x contract.Webhook) error {
		return a.records(x, webhookColumns, [][]string{webhookRow(&x)})
	}
	add := &cobra.Command{
		Use:   "add ID --name NAME --address https://HOST/PATH",
		Short: "Have a receiver told of what happens from now on",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			list := chosen()
			resp, err := r.AddWebhook(c.Context(), contract.NewWebhook{Id: args[0], Name: name, Address: address, Topics: &list, Key: optional(key),
				Partner: optional(partner), Why: optional(why)})
			var x contract.Webhook
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return show(x)
		},
	}
	set := &cobra.Command{
		Use:   "set ID",
		Short: "Change a receiver, or pause it: what no flag names stays as it is",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			body, changed := contract.WebhookChange{Why: optional(why)}, false
			for flag, put := range map[string]func(){
				"name": func() { body.Name = &name }, "address": func() { body.Address = &address }, "paused": func() { body.Paused = &paused },
				"topic": func() { list := chosen(); body.Topics = &list },
				"key": func() {
					if body.Key.Set(key); key == "" {
						body.Key.SetNull()
					}
				},
			} {
				if c.Flags().Changed(flag) {
					put()
					changed = true
				}
			}
			if !changed {
				return usage{errors.New("say what is to be otherwise: --name, --address, --topic, --key or --paused")}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ChangeWebhookWithApplicationMergePatchPlusJSONBody(c.Context(), args[0], body)
			var x contract.Webhook
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return show(x)
		},
	}
	for _, c := range []*cobra.Command{add, set} {
		c.Flags().StringVar(&name, "name", "", "whose it is")
		c.Flags().StringVar(&address, "address", "", "where events are sent: https, or http on the service's own machine")
		c.Flags().StringSliceVar(&topics, "topic", nil, "what it is told of: "+strings.Join(event.Names(), ", ")+"; all where none is named")
		c.Flags().StringVar(&key, "key", "", "where the bearer token is that it wants: file:PATH or env:NAME, on the service's machine")
		whyFlag(c, &why)
	}
	add.Flags().StringVar(&partner, "partner", "",
		"it is this partner's: it hears of accounts of our people alone, as the OpenID profiles have it")
	_ = add.RegisterFlagCompletionFunc("partner", a.completion("partner"))
	set.Flags().BoolVar(&paused, "paused", false, "tell it nothing for now; with --paused=false it is told what it missed")
	c.AddCommand(add, set)
	simple := func(use, short, done string, call func(*cobra.Command, *remote, string) error) *cobra.Command {
		return &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			if err := call(c, r, args[0]); err != nil {
				return err
			}
			a.say(done, args[0])
			return nil
		}}
	}
	c.AddCommand(simple("try ID", "Send a receiver an event that verifies it, and wait for what it says", "%s took it.",
		func(c *cobra.Command, r *remote, id string) error {
			resp, err := r.TryWebhook(c.Context(), id)
			return r.read(resp, err, nil)
		}))
	var reason string
	end := simple("end ID", "Tell a receiver nothing any more", "%s is told nothing any more.",
		func(c *cobra.Command, r *remote, id string) error {
			resp, err := r.EndWebhook(c.Context(), id, &contract.EndWebhookParams{Why: optional(reason)})
			return r.read(resp, err, nil)
		})
	whyFlag(end, &reason)
	c.AddCommand(end)
	return c
}

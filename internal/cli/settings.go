package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/worldfile"
)

// settingHelp says what each setting is.
var settingHelp = map[string]string{
	"organisation.name":        "what the organisation is called",
	"organisation.domains":     "our own domains, with commas; *.NAME takes those below along",
	"organisation.time_zone":   "the time zone in which days are counted, as Europe/Lisbon",
	"organisation.two_people":  "who else must confirm what is published: never, loosening or always",
	"settings.stance_days":     "days after which a partner's admitting stance counts as unknown",
	"settings.forget_days":     "days after which a removed record is known by a pseudonym alone",
	"settings.terms":           "the terms of use that guests accept; empty for those that come with the product",
	"settings.terms_pt":        "the same in Portuguese; empty: as settings.terms says",
	"settings.terms_since":     "terms accepted before this moment count no longer",
	"settings.brake":           "records let go, or messages sent, in a day before somebody must say so",
	"settings.member_mail":     "messages to outsiders that a member may send in a day",
	"settings.lapse_days":      "days after which a bundle that was asked for lapses where nobody answered",
	"settings.second_factor":   "whose accounts have to have a second factor: nobody, administrators, keepers (and administrators) or all",
	"settings.sign_up_asks":    "what who signs up by themselves is asked; questions with | between them",
	"settings.sign_up_asks_pt": "the same in Portuguese; empty: as settings.sign_up_asks says",
	"settings.sign_up_by":      "the person of ours who lets them in or not; empty: they come in at once",
	"settings.sightings":       "whether we are told when guests were last seen: told or none",
}

func (a *app) settings() *cobra.Command {
	c := &cobra.Command{Use: "settings", Short: "The organisation, its domains and time zone, and numbers of the service"}
	print := func(x *contract.AllSettings) error {
		rows := [][]string{}
		for _, key := range worldfile.SettingNames() {
			part, field, _ := strings.Cut(key, ".")
			from := x.Settings
			if part == "organisation" {
				from = nil
				if x.Organisation != nil {
					from = *x.Organisation
				}
			}
			rows = append(rows, []string{key, settingText(field, from[field]), settingHelp[key]})
		}
		return a.records(x, []string{"setting", "value", "what it is"}, rows)
	}
	show := &cobra.Command{Use: "show", Short: "Show every setting", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.Settings(c.Context())
		var x contract.AllSettings
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		return print(&x)
	}}
	var why string
	set := &cobra.Command{
		Use:     "set SETTING=VALUE…",
		Short:   "Change settings; they are policy, weighed and published",
		Args:    cobra.MinimumNArgs(1),
		Example: "  wexillum settings set organisation.name=\"Brackwater Museum\" organisation.domains=brackwater.example organisation.time_zone=Europe/Lisbon\n  wexillum settings set settings.brake=100 --why \"a quiet week\"",
		RunE: func(c *cobra.Command, args []string) error {
			parts := map[string]map[string]any{}
			for _, arg := range args {
				key, value, ok := strings.Cut(arg, "=")
				if !ok {
					return usage{fmt.Errorf("%q: write SETTING=VALUE", arg)}
				}
				if _, known := settingHelp[key]; !known {
					return usage{fmt.Errorf("there is no setting %q; wexillum settings show lists them", key)}
				}
				part, field, _ := strings.Cut(key, ".")
				if parts[part] == nil {
					parts[part] = map[string]any{}
				}
				parts[part][field] = settingValue(field, value)
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			if person, ok := parts["settings"]["sign_up_by"].(string); ok {
				if parts["settings"]["sign_up_by"], err = a.named(c, r, "person", person); err != nil {
					return err
				}
			}
			body := contract.SettingsPatch{Why: optional(why)}
			if p := parts["organisation"]; p != nil {
				body.Organisation = &p
			}
			if p := parts["settings"]; p != nil {
				body.Settings = &p
			}
			resp, err := r.ChangeSettingsWithApplicationMergePatchPlusJSONBody(c.Context(), &contract.ChangeSettingsParams{}, body)
			var x contract.AllSettings
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return print(&x)
		},
	}
	whyFlag(set, &why)
	terms := &cobra.Command{
		Use:   "terms",
		Short: "The versions of the terms of use, the newest first, and how many guests accepted which",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.TermsVersions(c.Context())
			var x struct {
				Versions []contract.TermsVersion `json:"versions"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for i, v := range x.Versions {
				text := v.Text
				if text == "" {
					text = "those that come with the product"
				}
				from, owed := "the beginning", ""
				if v.From != nil {
					from = day(*v.From)
				}
				if i == 0 {
					owed = fmt.Sprint(v.Owed)
				}
				rows = append(rows, []string{from, pick(v.Who), yesNo(v.Again), fmt.Sprint(v.Accepted), owed, text, v.TextPt})
			}
			return a.records(x, []string{"since", "by", "asked again", "accepted by", "not yet by", "text", "in Portuguese"}, rows)
		},
	}
	c.AddCommand(show, set, terms)
	return c
}

// settingValue reads a value; what is empty is taken away.
func settingValue(field, text string) any {
	if text == "" {
		return nil
	}
	if strings.HasPrefix(field, "sign_up_asks") {
		out := []any{}
		for _, q := range strings.Split(text, "|") {
			if q = strings.TrimSpace(q); q != "" {
				out = append(out, q)
			}
		}
		if len(out) == 0 {
			return nil
		}
		return out
	}
	if field != "domains" {
		return text
	}
	out := []any{}
	for _, d := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		if name, ok := strings.CutPrefix(d, "*."); ok {
			out = append(out, map[string]any{"name": name, "subdomains": "yes"})
		} else {
			out = append(out, d)
		}
	}
	return out
}

func settingText(field string, v any) string {
	list, ok := v.([]any)
	if !ok {
		return fieldText(v)
	}
	out := []string{}
	for _, e := range list {
		if m, ok := e.(map[string]any); ok {
			name := fmt.Sprint(m["name"])
			if fmt.Sprint(m["subdomains"]) == "yes" {
				name = "*." + name
			}
			out = append(out, name)
			continue
		}
		out = append(out, fmt.Sprint(e))
	}
	if strings.HasPrefix(field, "sign_up_asks") {
		return strings.Join(out, " | ")
	}
	return strings.Join(out, ", ")
}

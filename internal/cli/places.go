package cli

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/worldfile"
)

// placeFlag is a flag of a command that makes or changes an entry of inventory, and the field of the
// file format that it sets.
type placeFlag struct {
	flag, field, help string
	list              bool   // several values; with --add- and --drop- before the flag they are put in and taken out
	yes               bool   // yes or no
	kind              string // of what it names: a person, space, group …; empty for a text
}

// The fields of each kind that its commands set.
var placeFlags = map[string][]placeFlag{
	"space": {
		{flag: "name", field: "name", help: "what it is called"},
		{flag: "owners", field: "owners", help: "the people who own it", list: true, kind: "person"},
		{flag: "members", field: "members", help: "people of ours who are in it; a group as group:ID", list: true, kind: "member"},
		{
			flag:  "parties",
			field: "parties",
			help:  "only these from outside: partner:ID, domain:NAME, group:ID or addresses; all for whoever the rules admit",
			list:  true,
		},
		{flag: "joins-as", field: "joins_as", help: "of a course: what who joins it from outside gets, view, contribute or manage"},
		{flag: "joinable", field: "joinable", help: "our people may join by themselves", yes: true},
		{flag: "house-licence", field: "house_licence", help: "of a report area: it has a licence for every guest", yes: true},
	},
	"item": {
		{flag: "name", field: "name", help: "what it is called"},
		{flag: "private", field: "private", help: "nobody reaches it through the space: only by a role or a link of its own", yes: true},
		{flag: "space", field: "space", help: "move it into this space", kind: "space"},
	},
	"meeting": {
		{flag: "name", field: "name", help: "what it is called"},
		{flag: "host", field: "host", help: "the person who hosts it", kind: "person"},
		{flag: "space", field: "space", help: "the space that it belongs to; none for no space", kind: "space"},
		{
			flag:  "sign-in-domains",
			field: "sign_in_domains",
			help:  "only who signs in with an address at one of these domains may join",
			list:  true,
		},
		{
			flag:  "sign-in-lists",
			field: "sign_in_lists",
			help:  "and who is at a domain of one of these lists",
			list:  true,
			kind:  "domain_list",
		},
		{flag: "passcode", field: "passcode", help: "it has a passcode", yes: true},
		{flag: "waiting-text", field: "waiting_text", help: "what those read who wait to be let in"},
		{flag: "repeats", field: "repeats", help: "once, daily, weekly or monthly"},
		{flag: "standing-room", field: "standing_room", help: "it is a room that is always there", yes: true},
	},
	"domain_list": {
		{flag: "name", field: "name", help: "what it is called"},
		{flag: "domains", field: "domains", help: "the domains", list: true},
	},
	"person": {
		{flag: "name", field: "name", help: "their name"},
		{flag: "address", field: "address", help: "their address, at a domain of ours"},
		{flag: "groups", field: "groups", help: "the groups that they are in", list: true, kind: "group"},
		{flag: "roles", field: "roles", help: "administrator, auditor, keeper, introducer, sharer", list: true},
		{flag: "language", field: "language", help: "the language of their mail, as en or pt"},
	},
	"group": {
		{flag: "name", field: "name", help: "what it is called"},
		{flag: "parties", field: "parties", help: "addresses from outside that are in it", list: true},
	},
	"grant": {
		{flag: "role", field: "role", help: "view, contribute or manage"},
		{flag: "from", field: "from", help: "when it begins; now where absent"},
		{flag: "until", field: "until", help: "its end: a day, +90d, or none"},
		{flag: "sponsor", field: "sponsor", help: "who answers for it", kind: "person"},
		{flag: "reviewed", field: "reviewed", help: "when it was confirmed last: a day, or +0d for today"},
	},
	"link": {
		{flag: "right", field: "right", help: "view, contribute or, of a link that names people, manage"},
		{flag: "until", field: "until", help: "its end: a day, +10d, or none"},
		{flag: "download", field: "download", help: "it may be downloaded", yes: true},
		{flag: "password", field: "password", help: "a password is asked", yes: true},
		{flag: "for", field: "for", help: "the addresses that it names", list: true},
	},
}

// placeEdit is what a command changes, while it is put together from its flags.
type placeEdit struct {
	a       *app
	kind    string
	values  map[string]*string
	add     map[string]*string
	drop    map[string]*string
	why     string
	preview bool
	request bool   // it is sent to whoever may make it
	pattern string // of a new space
}

// placeCommand adds the flags of a kind to a command; with makes those that change lists in part are
// left out.
func (a *app) placeCommand(c *cobra.Command, kind string, makes bool, but ...string) *placeEdit {
	e := &placeEdit{a: a, kind: kind, values: map[string]*string{}, add: map[string]*string{}, drop: map[string]*string{}}
	for _, f := range placeFlags[kind] {
		if slices.Contains(but, f.flag) {
			continue
		}
		help := f.help
		if f.list {
			help += "; several with commas"
		}
		if f.yes {
			help += ": yes or no"
		}
		e.values[f.flag] = c.Flags().String(f.flag, "", help)
		if f.list && !makes {
			e.add[f.flag] = c.Flags().String("add-"+f.flag, "", "put these in as well")
			e.drop[f.flag] = c.Flags().String("drop-"+f.flag, "", "take these out")
		}
		if f.kind == "person" {
			_ = c.RegisterFlagCompletionFunc(f.flag, a.completion("person"))
		}
	}
	e.flags(c)
	return e
}

// flags adds what every command that changes an entry has.
func (e *placeEdit) flags(c *cobra.Command) {
	c.Flags().BoolVar(&e.preview, "preview", false, "say who would gain and lose, and change nothing")
	c.Flags().BoolVar(&e.request, "request", false, "do not change it: send it to whoever may, with --why as what it is for")
	whyFlag(c, &e.why)
}

// fields reads the flags that were given; id is of what is changed, empty for something new.
func (e *placeEdit) fields(c *cobra.Command, r *remote, id string) (map[string]any, error) {
	out := map[string]any{}
	for _, f := range placeFlags[e.kind] {
		given := func(flag string) bool { x := c.Flags().Lookup(flag); return x != nil && x.Changed }
		if given(f.flag) {
			v := *e.values[f.flag]
			switch {
			case f.list && v == "all" && f.field == "parties":
				out[f.field] = nil
			case f.list:
				list, err := e.named(c, r, f, v)
				if err != nil {
					return nil, err
				}
				out[f.field] = list
			case f.yes && v != "yes" && v != "no":
				return nil, usage{fmt.Errorf("--%s %q: write yes or no", f.flag, v)}
			case v == "" || v == "none" && f.field != "until":
				out[f.field] = nil
			case v == "none":
				out[f.field] = nil
			default:
				one, err := e.named(c, r, f, v)
				if err != nil {
					return nil, err
				}
				out[f.field] = one[0]
				if f.kind == "" {
					out[f.field] = v
				}
			}
		}
		if !given("add-"+f.flag) && !given("drop-"+f.flag) {
			continue
		}
		if given(f.flag) {
			return nil, usage{fmt.Errorf("--%s is the whole list; give it, or --add-%s and --drop-%s", f.flag, f.flag, f.flag)}
		}
		now, err := e.a.placeEntry(c, r, e.kind, id)
		if err != nil {
			return nil, err
		}
		list := []string{}
		if has, ok := now.Fields[f.field].([]any); ok {
			for _, x := range has {
				list = append(list, fmt.Sprint(x))
			}
		}
		more, err := e.named(c, r, f, *e.add[f.flag])
		if err != nil {
			return nil, err
		}
		less, err := e.named(c, r, f, *e.drop[f.flag])
		if err != nil {
			return nil, err
		}
		for _, x := range less {
			if !slices.Contains(list, x) {
				there := "there is none"
				if len(list) > 0 {
					there = "there are " + strings.Join(list, ", ")
				}
				return nil, usage{fmt.Errorf("--drop-%s %q: it is not there; %s", f.flag, x, there)}
			}
		}
		list = slices.DeleteFunc(list, func(x string) bool { return slices.Contains(less, x) })
		for _, x := range more {
			if !slices.Contains(list, x) {
				list = append(list, x)
			}
		}
		out[f.field] = list
	}
	return out, nil
}

// named turns the names of a flag into ids.
func (e *placeEdit) named(c *cobra.Command, r *remote, f placeFlag, text string) (out []string, err error) {
	for _, t := range strings.Split(text, ",") {
		if t = strings.TrimSpace(t); t == "" {
			continue
		}
		kind, prefix := f.kind, ""
		if kind == "member" {
			kind = "person"
			if g, ok := strings.CutPrefix(t, "group:"); ok {
				kind, t, prefix = "group", g, "group:"
			}
		}
		if kind != "" {
			if t, err = e.a.named(c, r, kind, t); err != nil {
				return nil, err
			}
		}
		out = append(out, prefix+t)
	}
	return
}

// named returns the id of what a text names: by its id, or by its name where one alone has it.
func (a *app) named(c *cobra.Command, r *remote, kind, text string) (string, error) {
	text = strings.TrimPrefix(text, kind+":")
	limit := 10
	resp, err := r.Complete(c.Context(), &contract.CompleteParams{Kind: contract.CompleteParamsKind(kind), Q: &text, Limit: &limit})
	var list struct{ Items []contract.Suggestion }
	if err := r.read(resp, err, &list); err != nil {
		return "", err
	}
	return meant(kind, text, list.Items)
}

// meant picks from suggestions the one that a text means.
func meant(kind, text string, list []contract.Suggestion) (string, error) {
	var same []contract.Suggestion
	for _, s := range list {
		if s.Value == text || s.Value == kind+":"+text {
			return s.Value, nil
		}
		if strings.EqualFold(s.Label, text) {
			same = append(same, s)
		}
	}
	if len(same) == 0 && strings.ContainsAny(text, " ") {
		same = list
	}
	switch len(same) {
	case 0:
		// which no id is like
		if _, id, cut := strings.Cut(text, ":"); !worldfile.ValidID(text) && (!cut || !worldfile.ValidID(id)) && !strings.Contains(text, "@") {
			hint := ""
			if len(list) > 0 {
				hint = fmt.Sprintf("; do you mean %s (%s)?", list[0].Value, list[0].Label)
			}
			return "", usage{fmt.Errorf("there is no %s called %q%s", worldfile.KindInWords(kind), text, hint)}
		}
		return text, nil // whoever is asked says that it is not there
	case 1:
		return same[0].Value, nil
	}
	var which []string
	for _, s := range same {
		which = append(which, fmt.Sprintf("%s (%s)", s.Value, s.Label))
	}
	return "", usage{fmt.Errorf("%q may mean several; write the id of one: %s", text, strings.Join(which, ", "))}
}

func (a *app) placeEntry(c *cobra.Command, r *remote, kind, id string) (*contract.PlaceEntry, error) {
	resp, err := r.ListPlaces(c.Context(), contract.PlaceKind(kind), &contract.ListPlacesParams{Id: &id})
	var x struct{ Entries []contract.PlaceEntry }
	if err := r.read(resp, err, &x); err != nil {
		return nil, err
	}
	if len(x.Entries) == 0 {
		return nil, fmt.Errorf("there is no %s %q", worldfile.KindInWords(kind), id)
	}
	return &x.Entries[0], nil
}

// changePlaces sends changes and tells what became of each, who gains and loses, and the way back.
func (a *app) changePlaces(c *cobra.Command, r *remote, preview bool, why string, edits ...contract.PlaceEdit) error {
	resp, err := r.ChangePlaces(
		c.Context(),
		&contract.ChangePlacesParams{Preview: &preview},
		contract.PlacesChange{Changes: edits, Why: optional(why)},
	)
	var x contract.PlacesChanged
	if err := r.read(resp, err, &x); err != nil {
		var p *problemError
		if errors.As(err, &p) && p.Status == http.StatusForbidden {
			return fmt.Errorf("%w\nTo ask for it: the same command with --request --why \"what it is for\"", err)
		}
		return err
	}
	return a.placesDone(&x)
}

// resultWords say what became of a change, or would.
var resultWords = map[contract.PlaceLineResult][2]string{
	contract.PlaceLineResultAdded:     {"made", "would be made"},
	contract.PlaceLineResultChanged:   {"changed", "would be changed"},
	contract.PlaceLineResultClosed:    {"closed", "would be closed"},
	contract.PlaceLineResultEnded:     {"ended", "would end"},
	contract.PlaceLineResultRemoved:   {"removed", "would be removed"},
	contract.PlaceLineResultUnchanged: {"is so already", "is so already"},
	contract.PlaceLineResultRefused:   {"refused", "refused"},
	contract.PlaceLineResultNotDone:   {"not done", "could be done"},
}

func (a *app) placesDone(x *contract.PlacesChanged) error {
	var status error
	if x.Refused > 0 {
		status = exit(statusNo)
	}
	rows := [][]string{}
	ahead := 0
	if x.Preview {
		ahead = 1
	}
	for _, l := range x.Lines {
		rows = append(rows, []string{l.Kind, l.Id, resultWords[l.Result][ahead], pick(l.Cause)})
	}
	if a.output != "table" {
		if err := a.records(x, []string{"kind", "id", "result", "cause"}, rows); err != nil {
			return err
		}
		return status
	}
	for _, l := range x.Lines {
		name := l.Id
		if f := strings.Fields(l.Id); l.Kind == "grant" && len(f) > 3 { // when it began is of no interest
			name = strings.Join(f[:3], " ")
		}
		name = strings.TrimSpace(worldfile.KindInWords(l.Kind) + " " + name)
		word := resultWords[l.Result][ahead]
		if l.Do == "close" && l.Result == contract.PlaceLineResultUnchanged {
			word = "nobody from outside has anything in it"
		}
		a.printf("%s: %s\n", name, word)
		if n := pick(l.Note); n != "" {
			a.printf("  %s\n", wrap(n, 2, a.width()))
		}
		if cause := pick(l.Cause); cause != "" {
			where := ""
			if f := pick(l.Field); f != "" && f != "id" {
				where = strings.TrimSpace(f+" "+pick(l.Value)) + ": "
			}
			a.printf("  %s\n", wrap(where+cause, 2, a.width()))
		}
	}
	if x.Refused > 0 {
		a.printf("\nNothing was changed.\n")
		for _, l := range x.Lines {
			if q := l.Ask; q != nil {
				with := ""
				if q.Context != nil && q.Context.Address != nil {
					with = " --context " + words("address="+*q.Context.Address)
				}
				a.printf("What would help: wexillum ask %s%s --remedy\n", words(q.Subject, q.Action, q.Resource), with)
			}
		}
		return status
	}
	if w := x.Weighed; w != nil {
		a.printf("\n")
		a.tellMoves(w)
	}
	if x.Change != nil {
		fmt.Fprintf(a.err, "Back: wexillum journal undo %d --why \"as it was\"\n", *x.Change)
	}
	return nil
}

// editPlace sends one change of what an argument names.
func (a *app) editPlace(c *cobra.Command, e *placeEdit, do, id string, more map[string]any) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	fields, err := e.fields(c, r, id)
	if err != nil {
		return err
	}
	for k, v := range more {
		fields[k] = v
	}
	if do == "set" && len(fields) == 0 {
		return usage{errors.New("say what is to be otherwise; see " + c.CommandPath() + " --help")}
	}
	pattern := e.pattern
	x := contract.PlaceEdit{Pattern: optional(pattern), Do: contract.PlaceEditDo(do), Kind: contract.PlaceKind(e.kind), Id: optional(id)}
	if len(fields) > 0 {
		x.Fields = &fields
	}
	if e.request {
		if strings.TrimSpace(e.why) == "" {
			return usage{errors.New("say what it is for: give --why")}
		}
		resp, err := r.MakeRequest(c.Context(), nil, contract.NewRequest{Changes: &[]contract.PlaceEdit{x}, Purpose: e.why})
		var made contract.Request
		if err := r.read(resp, err, &made); err != nil {
			return err
		}
		return a.printRequest(&made)
	}
	return a.changePlaces(c, r, e.preview, e.why, x)
}

// placeAdd is a command that makes an entry of a kind that is known by its name.
func (a *app) placeAdd(kind, short, example string) *cobra.Command {
	var e *placeEdit
	var id string
	c := &cobra.Command{
		Use:     "add NAME",
		Short:   short,
		Args:    cobra.ExactArgs(1),
		Example: example,
		RunE: func(c *cobra.Command, args []string) error {
			return a.editPlace(c, e, "add", id, map[string]any{"name": args[0]})
		},
	}
	e = a.placeCommand(c, kind, true, "name")
	c.Flags().StringVar(&id, "id", "", "its id; absent, it follows from the name")
	return c
}

// placeDo is a command that changes what its argument names.
func (a *app) placeDo(kind, do, use, short, example string) *cobra.Command {
	var e *placeEdit
	var on string
	c := &cobra.Command{
		Use:     use,
		Short:   short,
		Args:    cobra.ExactArgs(1),
		Example: example,
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			id := strings.TrimPrefix(args[0], kind+":")
			if kind != "link" { // which have no name
				if id, err = a.named(c, r, kind, args[0]); err != nil {
					return err
				}
			}
			more := map[string]any{}
			if on != "" {
				more["on"] = on
			}
			return a.editPlace(c, e, do, id, more)
		},
	}
	switch do {
	case "set":
		e = a.placeCommand(c, kind, false)
	default:
		e = &placeEdit{a: a, kind: kind}
		e.flags(c)
	}
	if do == "close" {
		c.Flags().StringVar(&on, "on", "", "its last day, as 2026-12-31 or +14d; at once where absent")
	}
	return c
}

// journalUndo takes a change back.
func (a *app) journalUndo() *cobra.Command {
	var why string
	var preview bool
	c := &cobra.Command{
		Use:   "undo NO",
		Short: "Undo a change of people, groups, spaces, items, meetings, roles, links, forwarders or contacts",
		Long:  "Undo the change that an entry of the journal belongs to, where nothing else stands\non it. It is a change of its own: it is weighed, and it can be undone in its turn.",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			var seq int64
			if _, err := fmt.Sscanf(args[0], "%d", &seq); err != nil || seq < 1 {
				return usage{fmt.Errorf("%q: write the number of an entry, as the first column of wexillum journal has it", args[0])}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.UndoChange(c.Context(), seq, &contract.UndoChangeParams{Preview: &preview}, contract.WhyOnly{Why: optional(why)})
			var x contract.PlacesChanged
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.placesDone(&x)
		},
	}
	c.Flags().BoolVar(&preview, "preview", false, "say who would gain and lose, and change nothing")
	whyFlag(c, &why)
	return c
}

// Package conform puts a program that speaks the contract of internal/connector/open through what the contract asks
// of it, from outside. It writes every setting and puts it back, and makes records and takes them away.
package conform

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"wexillum.example/internal/connector/open"
	"wexillum.example/internal/connector/wire"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/native"
)

// Check is one thing that was asked of the program. Wrong is empty where it did it.
type Check struct{ What, Wrong string }

// Run asks everything, in order, and hands each check over as it is done. It ends early where the description cannot
// be read, or the context is over. What it changed is put back, also then.
//
// From is whom trials come from, where the suite has an account for it; empty for somebody whom nobody knows.
func Run(ctx context.Context, address, token, from string, report func(Check)) error {
	c, err := open.New(address, token)
	if err != nil {
		return err
	}
	r := &run{ctx: ctx, c: c, report: report}
	r.check("it says what it can hold", func() (err error) {
		r.d, err = c.Describe(ctx)
		return err
	})
	if r.d == nil {
		return nil
	}
	r.check("a wrong token is refused for good", func() error {
		x, err := open.New(address, token+"x")
		if err != nil {
			return err
		}
		if _, err = x.Read(ctx); err == nil {
			return errors.New("it was let in")
		}
		return final(err)
	})
	var before map[string]string
	r.check("every setting is read, in words that the description has", func() (err error) {
		if before, err = c.Read(ctx); err != nil {
			return err
		}
		for _, path := range r.paths() {
			if _, there := before[path]; !there {
				return fmt.Errorf("%s is not there", path)
			}
		}
		if u := r.d.From(before).Unread; len(u) > 0 {
			return fmt.Errorf("%v is not understood", u)
		}
		return nil
	})
	if before == nil {
		return nil
	}
	defer r.putBack(before)
	for i := range r.d.Dials {
		r.setting(&r.d.Dials[i])
	}
	for i := range r.d.Boards {
		b := &r.d.Boards[i]
		r.check(b.Path+" takes a list of domains, either way round", func() error {
			for _, text := range []string{b.Only + ":", b.Only + ": a.conform.example, b.conform.example", b.But + ":",
				b.But + ": *.c.conform.example, c.conform.example"} {
				if err := r.written(b.Path, text); err != nil {
					return err
				}
			}
			return nil
		})
	}
	r.check("what it does not know it refuses for good, and nothing changes", func() error {
		was, err := c.Read(ctx)
		if err != nil {
			return err
		}
		tries := [][2]string{{"no.such.setting.here", "x"}}
		if len(r.d.Dials) > 0 {
			tries = append(tries, [2]string{r.d.Dials[0].Path, "a word that nobody has"})
		}
		for _, x := range tries {
			if err := c.Write(ctx, x[0], x[1]); err == nil {
				return fmt.Errorf("%s took %q", x[0], x[1])
			} else if err := final(err); err != nil {
				return err
			}
		}
		is, err := c.Read(ctx)
		if err == nil && !maps.Equal(was, is) {
			err = errors.New("it refused, and something changed")
		}
		return err
	})
	n := &names{there: map[string]string{}}
	var made [][2]string
	defer func() {
		for _, m := range slices.Backward(made) {
			_ = c.Drop(context.WithoutCancel(ctx), m[0], m[1])
		}
	}()
	for i := range r.d.Holdings {
		if id := r.kind(&r.d.Holdings[i], n); id != "" {
			made = append(made, [2]string{r.d.Holdings[i].Name, id})
		}
	}
	for _, a := range r.d.Tries {
		r.check(a+" can be tried from outside", func() error {
			for _, as := range []native.As{native.Stranger, native.AGuest, native.AHolder, native.OneOurs} {
				place := n.there["conform-space"]
				switch act, _ := catalogue.ActionByName(a); {
				case slices.Contains(act.On, catalogue.Meeting):
					place = "conform-meeting"
				case place != "" && !slices.Contains(act.On, catalogue.Space):
					place += "/file:conform-file"
				}
				x, err := c.Try(ctx, native.Attempt{Action: a, As: as, From: cmp.Or(from, "trial-1@conform.example"), To: "trial-2@conform.example",
					Place: place})
				if err != nil {
					return fmt.Errorf("as %s: %w", as, err)
				}
				if x.Known {
					return nil
				}
			}
			return errors.New("nobody can try it")
		})
	}
	return ctx.Err()
}

type run struct {
	ctx    context.Context
	c      *open.Connector
	d      *native.Dialect
	report func(Check)
}

func (r *run) check(what string, do func() error) {
	if r.ctx.Err() != nil {
		return
	}
	x := Check{What: what}
	if err := do(); err != nil {
		x.Wrong = err.Error()
	}
	r.report(x)
}

// final is an error for a refusal that is not for good, or says nothing.
func final(err error) error {
	var no *wire.Refused
	switch {
	case !errors.As(err, &no):
		return fmt.Errorf("that is no refusal: %w", err)
	case wire.Later(err):
		return fmt.Errorf("it refuses as if it might do it later: %w", err)
	case no.Says == "":
		return fmt.Errorf("it refuses without a word (%d)", no.Status)
	}
	return nil
}

func (r *run) paths() (out []string) {
	for i := range r.d.Dials {
		out = append(out, r.d.Dials[i].Path)
	}
	for i := range r.d.Boards {
		out = append(out, r.d.Boards[i].Path)
	}
	return
}

// written writes a value twice and reads it back.
func (r *run) written(path, value string) error {
	for range 2 {
		if err := r.c.Write(r.ctx, path, value); err != nil {
			return fmt.Errorf("%q: %w", value, err)
		}
	}
	is, err := r.c.Read(r.ctx)
	if err == nil && is[path] != value {
		err = fmt.Errorf("%q was taken, and %q is read", value, is[path])
	}
	return err
}

func (r *run) setting(x *native.Dial) {
	words := slices.DeleteFunc(slices.Clone(x.Words), func(w string) bool { return w == "" })
	if rule, _ := catalogue.RuleByName(x.Rule); rule.Scale.Shape == catalogue.Days {
		words = []string{"7", "30"}
		if x.NoEnd != "" {
			words = append(words, x.NoEnd)
		}
	}
	if x.Hand {
		r.check(x.Path+" is by hand: writing it is refused for good", func() error {
			err := r.c.Write(r.ctx, x.Path, words[0])
			if err == nil {
				return errors.New("it was taken")
			}
			return final(err)
		})
		return
	}
	r.check(x.Path+" takes each of its words, twice without harm", func() error {
		for _, w := range words {
			if err := r.written(x.Path, w); err != nil {
				return err
			}
		}
		return nil
	})
}

// putBack writes the settings as they were.
func (r *run) putBack(before map[string]string) {
	ctx := context.WithoutCancel(r.ctx)
	is, err := r.c.Read(ctx)
	wrong := ""
	for _, path := range r.paths() {
		if err == nil && is[path] != before[path] {
			err = r.c.Write(ctx, path, before[path])
		}
	}
	if err != nil {
		wrong = err.Error()
	}
	r.report(Check{"the settings are as they were", wrong})
}

// names stand for what is called otherwise there.
type names struct{ there map[string]string }

func (n *names) Person(a string) (string, bool) { return a, true }
func (n *names) Native(s string) (string, bool) { id, ok := n.there[s]; return id, ok }
func (n *names) Space(id string) (string, bool) {
	return "conform-space", id == n.there["conform-space"]
}
func (n *names) SpaceOf(string) string { return "conform-space" }

var samples = map[string][2]native.Thing{
	"group": {{"id": "conform-group", "name": "Conformance"}, {"id": "conform-group", "name": "Conformance, again"}},
	"person": {{"address": "pat@ours.example", "name": "Pat", "groups": ""},
		{"address": "pat@ours.example", "name": "Pat Conform", "groups": "conform-group"}},
	"space": {{"id": "conform-space", "name": "Conformance", "owner": "uma@ours.example"},
		{"id": "conform-space", "name": "Conformance, again", "owner": "uma@ours.example"}},
	"guest": {{"address": "guest@conform.example", "standing": "in", "sponsor": "uma@ours.example", "groups": ""},
		{"address": "guest@conform.example", "standing": "out", "sponsor": "uma@ours.example", "groups": "conform-group"}},
	"grant": {{"address": "guest@conform.example", "resource": "file:conform-file", "role": "view", "from": "", "until": ""},
		{"address": "guest@conform.example", "resource": "file:conform-file", "role": "contribute", "from": "", "until": ""}},
	"link": {{"id": "conform-link", "item": "file:conform-file", "right": "view", "until": "2099-01-01T00:00:00Z", "for": "",
		"by": "uma@ours.example"}, {"id": "conform-link", "item": "file:conform-file", "right": "view", "until": "2099-02-01T00:00:00Z",
		"for": "", "by": "uma@ours.example"}},
	"meeting": {{"id": "conform-meeting", "name": "Conformance", "host": "uma@ours.example"},
		{"id": "conform-meeting", "name": "Conformance, again", "host": "uma@ours.example"}},
	"forwarder": {{"mailbox": "uma@ours.example", "to": "uma@conform.example", "keep_copy": "yes", "set_by": "administrator"},
		{"mailbox": "uma@ours.example", "to": "uma@conform.example", "keep_copy": "yes", "set_by": "administrator"}},
}

// kind makes a record of a kind, changes it and takes it away, and makes it once more for what stands on it; it returns
// the id of that.
func (r *run) kind(h *native.Holding, n *names) (id string) {
	sample := samples[h.Kind]
	for i := range sample { // what the suite says that it keeps
		sample[i] = sample[i].Clone()
		for _, f := range h.Fields {
			if f.Spaces {
				sample[i][f.Of] = "space:conform-space"
			}
			if f.Words != nil && f.Words[sample[i][f.Of]] == "" {
				sample[i][f.Of] = slices.Sorted(maps.Keys(f.Words))[min(i, len(f.Words)-1)]
			}
		}
	}
	write := func(t native.Thing) (map[string]string, error) {
		f, ok := h.Write(t, n)
		if !ok {
			return nil, errors.New("the space that it is in could not be made")
		}
		return f, nil
	}
	is := func(id string, want native.Thing) error {
		k, err := r.c.One(r.ctx, h.Name, id)
		if err != nil {
			return err
		}
		if k == nil {
			return errors.New("it was taken, and is not there")
		}
		if got, unread := h.Read(k.Fields, n); unread != "" || h.Differs(got, want) {
			return fmt.Errorf("it was taken as %v, and reads %v %s", want, got, unread)
		}
		return nil
	}
	listed := func(id string) (times int, err error) {
		last := ""
		err = r.c.List(r.ctx, h.Name, func(k native.Kept) error {
			if k.ID <= last {
				return fmt.Errorf("they are not in the order of their ids: %s after %s", k.ID, last)
			}
			if last = k.ID; k.ID == id {
				times++
			}
			return nil
		})
		return
	}
	r.check(h.Name+" are made, once however often it is sent", func() error {
		f, err := write(sample[0])
		if err != nil {
			return err
		}
		if id, err = r.c.Put(r.ctx, h.Name, "", f); err != nil {
			return err
		}
		again, err := r.c.Put(r.ctx, h.Name, "", f)
		if err != nil {
			return err
		}
		if again != id {
			return fmt.Errorf("sent twice, it is there twice: %s and %s", id, again)
		}
		if times, err := listed(id); err != nil || times != 1 {
			return errors.Join(err, fmt.Errorf("it is listed %d times", times))
		}
		return is(id, sample[0])
	})
	if id == "" {
		return ""
	}
	r.check(h.Name+" are changed", func() error {
		f, err := write(sample[1])
		if err == nil {
			_, err = r.c.Put(r.ctx, h.Name, id, f)
		}
		if err != nil {
			return err
		}
		return is(id, sample[1])
	})
	r.check(h.Name+" are taken away, twice without harm", func() error {
		for range 2 {
			if err := r.c.Drop(r.ctx, h.Name, id); err != nil {
				return err
			}
		}
		if k, err := r.c.One(r.ctx, h.Name, id); err != nil || k != nil {
			return errors.Join(err, errors.New("it is still there"))
		}
		if times, err := listed(id); err != nil || times != 0 {
			return errors.Join(err, errors.New("it is still listed"))
		}
		return nil
	})
	f, err := write(sample[0])
	if err == nil {
		id, err = r.c.Put(r.ctx, h.Name, "", f)
	}
	if err != nil {
		return ""
	}
	if h.Kind == "space" {
		n.there["conform-space"] = id
	}
	return id
}

package engine

import (
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// Reading what people write: *may Noor read the loan dossier*, with names in
// place of ids. Nothing here guesses silently: what may mean several is asked
// back with the choices, what means nothing with the nearest name.

// several says which of those that a text may mean are to be chosen from. At
// most eight are named.
func several(field, text string, list []Named) error {
	var which []string
	for i, n := range list {
		if i == 8 {
			which = append(which, fmt.Sprintf("and %d more", len(list)-8))
			break
		}
		name := n.Value
		if n.Name != "" && n.Name != n.Value {
			name += " (" + n.Name + ")"
		}
		which = append(which, name)
	}
	return &WrongUse{field, text, "it may mean several; write one of " + strings.Join(which, ", ")}
}

// best keeps those whose name is the text itself, where there are any.
func best(text string, list []Named) []Named {
	var same []Named
	for _, n := range list {
		if strings.EqualFold(n.Name, text) {
			same = append(same, n)
		}
	}
	if len(same) > 0 {
		return same
	}
	return list
}

// WhoNamed is ParseWho that also takes names: those of people of ours, and with
// guests those of guests too. An error is a *WrongUse. People write names; a
// script writes ids. Both are taken, and what may mean several is asked back.
func (s *Snapshot) WhoNamed(text string, guests bool) (Who, error) {
	text = strings.TrimSpace(text)
	who, err := ParseWho(text)
	if err == nil || text == "" || strings.ContainsAny(text, "@:") {
		return who, err
	}
	var list []Named
	for _, n := range s.Meant("person", text, 20) {
		list = append(list, Named{"person:" + n.Value, n.Name, n.Detail})
	}
	if guests {
		low := strings.ToLower(text)
		for _, n := range s.Find(text, 20, "who") {
			if strings.Contains(n.Value, "@") && !strings.HasPrefix(n.Value, "*@") && strings.Contains(strings.ToLower(n.Name), low) {
				list = append(list, n)
			}
		}
	}
	switch list = best(text, list); len(list) {
	case 0:
		reason := "nobody is called so; write a name, an address, person:ID, link:ID or *@domain"
		if id := s.NearestID("person", text); id != "" {
			reason += "; do you mean " + s.NameOf(world.Resource{Kind: catalogue.Person, ID: id}) + " (person:" + id + ")?"
		} else if a, name := s.nearestGuest(text); guests && a != "" {
			reason += "; do you mean " + name + " (" + a + ")?"
		}
		return Who{}, &WrongUse{"subject", text, reason}
	case 1:
		return ParseWho(list[0].Value)
	}
	return Who{}, several("subject", text, list)
}

// nearestGuest returns the guest whose name a misspelt one resembles most; ""
// for none. It allows one slip in three letters, and goes through everybody: it
// is asked where a name was not found, and somebody waits anyhow.
func (s *Snapshot) nearestGuest(text string) (address, name string) {
	inv := &s.inv
	low, at := strings.ToLower(text), len(text)/3+1
	for i := range inv.parties.n {
		if inv.parties.at(i).flags&hasRecord == 0 {
			continue
		}
		has := inv.nameOf(i)
		if n := len(has) - len(low); has == "" || n >= at || -n >= at {
			continue
		}
		if d := catalogue.Distance(low, strings.ToLower(has)); d < at {
			address, name, at = inv.addressText(i), has, d
		}
	}
	return
}

// resourcesNamed lists the resources that a text may name. A name that is
// exactly meant leaves out those that only hold it.
func (s *Snapshot) resourcesNamed(text string) (list []Named) {
	for _, kind := range []string{"space", "meeting", "item", "person"} {
		for _, n := range s.Meant(kind, text, 20) {
			value := kind + ":" + n.Value
			if kind == "item" {
				k, _ := s.ItemKind(n.Value)
				value = k.String() + ":" + n.Value
			}
			list = append(list, Named{value, n.Name, n.Detail})
		}
	}
	return best(text, list)
}

// actionsNamed lists the actions that a text may mean: by name, by its verb, or
// by what it is called in plain words. Of the ways to be meant the closest that
// finds anything counts; articles are left out.
func actionsNamed(text string) (list []*catalogue.Action) {
	low := strings.ToLower(strings.TrimSpace(text))
	plain := strings.Join(slices.DeleteFunc(strings.Fields(low), func(w string) bool { return w == "a" || w == "an" || w == "the" }), " ")
	var verb, title, begins, within []*catalogue.Action
	for i := range catalogue.Actions() {
		a := &catalogue.Actions()[i]
		_, v, _ := strings.Cut(a.Name, ".")
		switch {
		case a.Name == low:
			return []*catalogue.Action{a}
		case v == low || strings.ReplaceAll(v, "_", " ") == plain:
			verb = append(verb, a)
		case strings.EqualFold(a.Title, low):
			title = append(title, a)
		case strings.HasPrefix(v, low) || strings.HasPrefix(strings.ToLower(a.Title), low):
			begins = append(begins, a)
		case strings.Contains(strings.ToLower(a.Title), low):
			within = append(within, a)
		}
	}
	for _, l := range [][]*catalogue.Action{append(verb, title...), begins, within} {
		if len(l) > 0 && low != "" {
			return l
		}
	}
	return nil
}

// ActionNamed reads an action by its name or in plain words, as invite or read
// a page. about, where not empty, is the resource as it was asked for; ours
// says that a person of ours asks. An error is a *WrongUse.
//
// "Invite" may be one action for people of ours and another for guests: who
// asks and about what decides.
func (s *Snapshot) ActionNamed(text, about string, ours bool) (catalogue.ActionID, error) {
	list := actionsNamed(text)
	if len(list) > 1 {
		kinds := s.kindsOf(about)
		fits := slices.DeleteFunc(slices.Clone(list), func(a *catalogue.Action) bool {
			if (a.Asks[catalogue.Ours] != nil) != ours {
				return true
			}
			return len(kinds) > 0 && !slices.ContainsFunc(kinds, a.Takes)
		})
		if len(fits) > 0 {
			list = fits
		}
	}
	switch len(list) {
	case 0:
		return ParseAction(text)
	case 1:
		return list[0].ID, nil
	}
	named := make([]Named, len(list))
	for i, a := range list {
		named[i] = Named{Value: a.Name, Name: a.Title}
	}
	return 0, several("action", text, named)
}

// kindsOf are the kinds that a text may name a resource of; none where it
// cannot be told.
func (s *Snapshot) kindsOf(text string) (kinds []catalogue.ResourceKind) {
	if r, err := ParseResource(text); err == nil {
		return []catalogue.ResourceKind{r.Kind}
	}
	for _, n := range s.resourcesNamed(text) {
		if r, err := ParseResource(n.Value); err == nil {
			kinds = append(kinds, r.Kind)
			if r.Kind == catalogue.Person {
				kinds = append(kinds, catalogue.Mailbox, catalogue.Calendar)
			}
		}
	}
	return
}

// ResourceNamed reads kind:id, or the name of a space, a meeting, an item or a
// person that the action can be tried on. An error is a *WrongUse. A person's
// name also means their mailbox and calendar, whichever the action is about.
func (s *Snapshot) ResourceNamed(text string, act catalogue.ActionID) (world.Resource, error) {
	text = strings.TrimSpace(text)
	r, err := ParseResource(text)
	if err == nil || text == "" {
		return r, err
	}
	var list []Named
	for _, n := range s.resourcesNamed(text) {
		x, err := ParseResource(n.Value)
		if err != nil {
			continue
		}
		kinds := []catalogue.ResourceKind{x.Kind}
		if x.Kind == catalogue.Person { // whose mailbox and calendar are called alike
			kinds = append(kinds, catalogue.Mailbox, catalogue.Calendar)
		}
		for _, k := range kinds {
			if act.Get().Takes(k) {
				list = append(list, Named{k.String() + ":" + x.ID, n.Name, n.Detail})
			}
		}
	}
	switch len(list) {
	case 0:
		reason := "nothing that this can be tried on is called so; write its name, or kind:id as space:loan-dossier"
		for _, kind := range []string{"space", "meeting", "item"} {
			if id := s.NearestID(kind, text); id != "" {
				reason += "; do you mean " + id + "?"
				break
			}
		}
		return world.Resource{}, &WrongUse{"resource", text, reason}
	case 1:
		return ParseResource(list[0].Value)
	}
	return world.Resource{}, several("resource", text, list)
}

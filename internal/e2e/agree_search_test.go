package e2e

import (
	"encoding/json"
	"net/url"
	"slices"
	"strings"

	"wexillum.example/internal/core/catalogue"
)

// differences compares neighbours in the list of parties with each other.
func (a *agreeing) differences() {
	a.t.Helper()
	for i := 1; i < len(a.parties); i += 3 {
		left, right := a.parties[i-1], a.parties[i]
		if strings.HasPrefix(left, "link:") || strings.HasPrefix(right, "link:") {
			continue
		}
		var x struct {
			Lines []struct {
				Change, Action, Resource string
				Count                    int
			}
		}
		a.get("diff", url.Values{"who": {left}, "and_who": {right}}, &x)
		got, want := yesses{}, yesses{}
		for _, l := range x.Lines {
			if l.Change == "otherwise" || !granted(l.Action, l.Resource) {
				continue
			}
			got[[3]string{l.Change, l.Action, l.Resource}] = true
		}
		for k := range a.yes {
			switch {
			case !granted(k[1], k[2]):
			case k[0] == left && !a.yes[[3]string{right, k[1], k[2]}]:
				want[[3]string{"lost", k[1], k[2]}] = true
			case k[0] == right && !a.yes[[3]string{left, k[1], k[2]}]:
				want[[3]string{"gained", k[1], k[2]}] = true
			}
		}
		a.same("difference of "+left+" and "+right, got, want)
	}
}

// coulds holds that whatever is a yes is among what could come to be, and told as such.
func (a *agreeing) coulds() {
	a.t.Helper()
	for _, who := range a.parties {
		if strings.HasPrefix(who, "link:") {
			continue
		}
		got := yesses{}
		a.pages("could", url.Values{"who": {who}, "all": {"true"}}, 50, func(page json.RawMessage) {
			var x struct {
				Lines []struct {
					Who, Action, Resource string
					Now                   bool
				}
			}
			check(a.t, json.Unmarshal(page, &x))
			for _, l := range x.Lines {
				k := [3]string{l.Who, l.Action, l.Resource}
				if l.Now != a.yes[k] && granted(l.Action, l.Resource) {
					a.t.Errorf("could: %v is told to be so now: %v", k, l.Now)
				}
				if l.Now && granted(l.Action, l.Resource) {
					got[k] = true
				}
			}
		})
		a.same("what "+who+" could come to", got, a.yes.only(func(of, act, r string) bool { return of == who && granted(act, r) }))
	}
}

// searches compares the three searches of a gateway with its questions.
func (a *agreeing) searches() {
	a.t.Helper()
	found := func(what string, body map[string]any) (out []string) {
		page := map[string]any{"limit": 5}
		for {
			body["page"] = page
			doc, err := json.Marshal(body)
			check(a.t, err)
			status, _, text := a.call("POST", "/access/v1/search/"+what, a.token, string(doc))
			var x struct {
				Results []struct{ Type, ID, Name string }
				Page    struct {
					NextToken string `json:"next_token"`
				}
			}
			if status != 200 || json.Unmarshal([]byte(text), &x) != nil {
				a.t.Fatalf("%s %s: %d %s", what, doc, status, text)
			}
			for _, r := range x.Results {
				out = append(out, r.ID+r.Name)
			}
			if x.Page.NextToken == "" {
				slices.Sort(out)
				return out
			}
			page["token"] = x.Page.NextToken
		}
	}
	every := (^catalogue.Condition(0)).Names()
	n := 0
	for k := range a.yes {
		if n++; n%97 != 0 || strings.HasPrefix(k[0], "link:") || strings.HasPrefix(k[2], "directory:") {
			continue
		}
		subject, act, resource := entity(k[0]), map[string]string{"name": k[1]}, entity(k[2])
		var subjects, resources, acts []string
		for x := range a.yes {
			if x[1] == k[1] && x[2] == k[2] && !strings.HasPrefix(x[0], "link:") {
				subjects = append(subjects, x[0])
			}
			if x[0] == k[0] && x[1] == k[1] && strings.HasPrefix(x[2], resource["type"]+":") {
				resources = append(resources, entity(x[2])["id"])
			}
			if x[0] == k[0] && x[2] == k[2] {
				acts = append(acts, x[1])
			}
		}
		slices.Sort(subjects)
		slices.Sort(resources)
		slices.Sort(acts)
		context := map[string]any{"enforces": every}
		for _, c := range []struct {
			what string
			body map[string]any
			want []string
		}{
			{"subject", map[string]any{"subject": map[string]string{"type": "party"}, "action": act, "resource": resource}, subjects},
			{"resource", map[string]any{"subject": subject, "action": act, "resource": map[string]string{"type": resource["type"]}}, resources},
			{"action", map[string]any{"subject": subject, "resource": resource}, acts},
		} {
			c.body["context"] = context
			got := slices.DeleteFunc(found(c.what, c.body), func(x string) bool { return strings.HasPrefix(x, "*@") })
			if c.what == "subject" { // whoever is not known by a record or role is found as a typical newcomer alone
				got = slices.DeleteFunc(got, func(x string) bool { return !slices.Contains(a.parties, x) })
			}
			if !slices.Equal(got, c.want) {
				a.t.Errorf("search of %s for %v:\n%v\nand by questions\n%v", c.what, k, got, c.want)
			}
		}
	}
}

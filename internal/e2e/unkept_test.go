package e2e

import (
	"net/url"
	"regexp"
	"strings"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

// TestMemberLearnsNothing has a member ask about their own spaces and addresses that have a record and that they have no business with:
// whatever they ask, they are answered as of an address that there never was.
func TestMemberLearnsNothing(t *testing.T) {
	t.Parallel()
	r := startService(t, demoDSN(t), nil)
	rigger, harbour := r.token("rigger"), r.token("harbour")
	st := r.svc.State()
	me := service.Who{Name: "rigger", Role: service.Member, Person: "d.ekwinter"}
	known, err := r.svc.KnownTo(t.Context(), st, me)
	check(t, err)
	own := st.SpacesOf(me.Person)
	design := world.Resource{Kind: catalogue.Space, ID: "low-water-design"}
	var unknown, familiar []string
	var guests []world.Guest
	check(t, r.st.EachGuest(t.Context(), func(g *world.Guest) error { guests = append(guests, *g); return nil }))
	for _, g := range guests {
		if known.Stranger(g.Address, &design) {
			unknown = append(unknown, g.Address.String())
		} else {
			familiar = append(familiar, g.Address.String())
		}
	}
	if len(unknown) < 10 || len(familiar) < 3 || len(own) == 0 {
		t.Fatalf("%d unknown, %d familiar, %v", len(unknown), len(familiar), own)
	}
	ways := []func(token, a string) string{}
	for _, action := range []string{"spaces.enter", "spaces.see_members", "spaces.join"} {
		ways = append(ways, func(token, a string) string {
			status, _, body := r.call("POST", "/api/v1/ask", token, `{"subject":"`+a+`","action":"`+action+`","resource":"space:low-water-design"}`)
			return url.QueryEscape(string(rune('0'+status/100))) + body
		})
	}
	for _, body := range []string{
		`{"subject":"person:d.ekwinter","action":"directory.invite","resource":"space:low-water-design","context":{"address":"WHO"}}`,
		`{"subject":"WHO","action":"files.open","resource":"folder:design-drawings"}`,
	} {
		ways = append(ways, func(token, a string) string {
			_, _, out := r.call("POST", "/api/v1/ask", token, strings.ReplaceAll(body, "WHO", a))
			return out
		}, func(token, a string) string {
			_, _, out := r.call("POST", "/api/v1/remedies", token, `{"question":`+strings.ReplaceAll(body, "WHO", a)+`}`)
			return out
		})
	}
	ways = append(ways, func(token, a string) string {
		_, _, out := r.call("POST", "/api/v1/would", token, `{"subject":"`+a+`","grants":[{"resource":"space:low-water-design","role":"view"}]}`)
		return out
	}, func(token, a string) string {
		_, _, out := r.call("POST", "/api/v1/check?into=space:low-water-design", token, a+"\n", "Content-Type", "text/plain")
		return out
	}, func(token, a string) string {
		_, _, out := r.call("POST", "/api/v1/check", token, a+"\n", "Content-Type", "text/plain")
		return out
	})
	// Options are named by a digest of what they change, the address too; and time goes on.
	plain := func(text, a string) string {
		return regexp.MustCompile(`"id":"[0-9a-f]{12}"|"at":"[0-9T:.-]+Z"`).ReplaceAllString(strings.ReplaceAll(text, a, "WHO"), "")
	}
	never := func(a string) string {
		x, err := addr.Parse(a)
		check(t, err)
		return "never.was@" + x.Domain().String()
	}
	told := 0
	for i, a := range unknown {
		for n, way := range ways {
			got, want := way(rigger, a), way(rigger, never(a))
			if plain(got, a) != plain(want, never(a)) {
				g, w := plain(got, a), plain(want, never(a))
				at := 0
				for at < min(len(g), len(w)) && g[at] == w[at] {
					at++
				}
				t.Errorf("way %d tells of %s:\n…%s\nand of nobody:\n…%s", n, a, g[max(0, at-60):min(len(g), at+160)],
					w[max(0, at-60):min(len(w), at+160)])
			}
			if i < 10 { // an administrator sees the difference
				if x, y := way(harbour, a), way(harbour, never(a)); plain(x, a) != plain(y, never(a)) {
					told++
				}
			}
		}
		if i > 40 {
			break
		}
	}
	if told == 0 {
		t.Error("nothing would tell even an administrator")
	}
	seen := 0
	for _, a := range familiar {
		kind := func(text string) string {
			_, rest, _ := strings.Cut(text, `"kind":`)
			return rest[:min(len(rest), 20)]
		}
		if x, y := ways[0](rigger, a), ways[0](harbour, a); kind(x) == kind(y) && kind(x) != "" {
			seen++
		} else {
			t.Log(a, x[:min(len(x), 700)])
		}
	}
	if seen != len(familiar) {
		t.Errorf("of %d whom they know they see %d as they are", len(familiar), seen)
	}
}

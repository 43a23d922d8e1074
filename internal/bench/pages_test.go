package bench

import (
	"encoding/csv"
	"flag"
	"fmt"
	"math"
	"net/url"
	"os"
	"strconv"
	"testing"
	"time"

	"wexillum.example/internal/worldgen"
)

var pagesCSV = flag.String("pages", "", "where the figures of pages go, as CSV")

var pagesFrom = flag.Int("pages-from", 1_000, "the smallest world of pages")

// longestPage is how long a page is waited for.
const longestPage = 2 * time.Minute

// BenchmarkPages asks for every view of a service over HTTP in worlds of 1,000 guests and ten, a hundred and a thousand times as many,
// up to -guests: five times as it is, and five times right after a change of policy. It
// prints medians in milliseconds, and the exponent with
// which each grows from the smallest world to the largest: 0 where it costs the same everywhere, 1 where it grows with the world.
func BenchmarkPages(b *testing.B) {
	type view struct{ name, method, path, body string }
	var sizes []int
	took := map[string][2][]float64{}
	var names []string
	for n := *pagesFrom; n <= *guests; n *= 10 {
		sizes = append(sizes, n)
		w := worldgen.Generate(1, worldgen.Size{Guests: n}, now)
		p := serves(b, w)
		p.c.Timeout = longestPage
		var there struct{ Guests []struct{ Address string } } // some go when the service begins, by their dates
		if err := p.get("/api/v1/guests?limit=50", &there); err != nil || len(there.Guests) == 0 {
			b.Fatal(err, "no guests")
		}
		guest, space, person := there.Guests[len(there.Guests)/2].Address, w.Spaces[len(w.Spaces)/2].ID, w.People[len(w.People)/2].ID
		partner := w.Partners[len(w.Partners)/2].ID
		get := func(name, path string) view { return view{name, "GET", "/api/v1/" + path, ""} }
		who := url.QueryEscape(guest)
		views := []view{
			get("first page", "overview"),
			get("beginning", "start"),
			get("everybody in numbers", "numbers"),
			get("findings", "findings?limit=50&soon=true"),
			get("due in 30 days", "due?days=30&limit=50"),
			get("days to come", "due/days"),
			get("guests", "guests?limit=50"),
			get("a guest", "guests/"+url.PathEscape(guest)),
			get("spaces", "spaces?limit=50"),
			get("a space", "spaces/"+space),
			get("people", "people?limit=50"),
			get("a person", "people/"+person),
			get("people by partner", "people/matrix"),
			get("partners", "partners?limit=50"),
			get("a partner", "partners/"+partner),
			get("bars", "bars?limit=50"),
			get("exceptions", "exceptions?limit=50"),
			get("links", "links?limit=50"),
			get("rules", "rules"),
			get("a rule's exceptions", "rules/files.given_to"),
			get("values of a space", "values/space:"+space),
			get("board", "board?limit=40"),
			get("reach of a guest", "reach?who="+who),
			get("reach of somebody new", "reach?limit=50&who="+url.QueryEscape("*@"+w.Partners[len(w.Partners)/2].Domains[0].Domain.String())),
			get("audience of a space", "audience?limit=50&resource=space:"+space),
			get("audience of a person", "audience?limit=50&resource=person:"+person),
			get("what a guest could come to", "could?who="+who),
			get("what is spare", "spare"),
			get("history of a question", "history?who="+who+"&action=spaces.enter&resource=space:"+space),
			get("find", "find?q=space"),
			get("journal", "journal?limit=50"),
			get("revisions", "revisions?limit=50"),
			{"one question, with its next steps", "POST", "/api/v1/ask",
				fmt.Sprintf(`{"subject":%q,"action":"spaces.enter","resource":"space:%s"}`, guest, space)},
			{"a rule weighed", "PATCH", "/api/v1/rules/files.given_to?preview=true", `{"default":"newcomers"}`},
		}
		state := 0
		change := func() {
			state++
			body := fmt.Appendf(nil, `{"default":%q,"why":"it is tried"}`, []string{"on", "off"}[state%2])
			if err := p.do("PATCH", "/api/v1/rules/spaces.tasks", body); err != nil {
				b.Fatal(err)
			}
		}
		for _, v := range views {
			if len(sizes) == 1 {
				names = append(names, v.name)
			}
			var body []byte
			if v.body != "" {
				body = []byte(v.body)
			}
			once := func() float64 {
				begun := time.Now()
				if err := p.do(v.method, v.path, body); err != nil {
					if n > 1_000 && time.Since(begun) >= longestPage { // nobody waits for it so long
						fmt.Printf("# %s with %d guests: %v\n", v.name, n, err)
						return longestPage.Seconds() * 1000
					}
					b.Fatal(v.name, " ", err)
				}
				return float64(time.Since(begun).Microseconds()) / 1000
			}
			p.signIn()
			var same, after []float64
			for k := range 5 {
				same = append(same, once())
				if k == 0 && same[0] > 20_000 {
					break
				}
			}
			for k := range 5 {
				change()
				after = append(after, once())
				if k == 0 && after[0] > 20_000 {
					break
				}
			}
			fmt.Printf("# %s with %d guests: %.1f ms, after a change %.1f ms\n", v.name, n, median(same), median(after))
			x := took[v.name]
			took[v.name] = [2][]float64{append(x[0], median(same)), append(x[1], median(after))}
		}
	}
	exponent := func(xs []float64) float64 { return math.Log10(xs[len(xs)-1]/xs[0]) / float64(len(xs)-1) }
	rows := [][]string{{"view"}}
	for _, kind := range []string{"", " after a change"} {
		for _, n := range sizes {
			rows[0] = append(rows[0], strconv.Itoa(n)+kind)
		}
		if len(sizes) > 1 {
			rows[0] = append(rows[0], "exponent"+kind)
		}
	}
	for _, name := range names {
		row := []string{name}
		for _, xs := range took[name] {
			for _, ms := range xs {
				row = append(row, strconv.FormatFloat(ms, 'f', 1, 64))
			}
			if len(sizes) > 1 {
				row = append(row, strconv.FormatFloat(exponent(xs), 'f', 2, 64))
			}
		}
		rows = append(rows, row)
	}
	for _, row := range rows {
		for k, c := range row {
			fmt.Printf(map[bool]string{true: "%-36s", false: " %12.12s"}[k == 0], c)
		}
		fmt.Println()
	}
	if *pagesCSV != "" {
		f, err := os.Create(*pagesCSV)
		if err != nil {
			b.Fatal(err)
		}
		if err := csv.NewWriter(f).WriteAll(rows); err != nil {
			b.Fatal(err)
		}
		if err := f.Close(); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(0, "ns/op")
}

package bench

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"wexillum.example/internal/api"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldgen"
)

// BenchmarkWriters lets 1 to 200 write at the same time, each one bar after the other, over HTTP
// into one service, and into three on one database: changes a second, and how long each took.
func BenchmarkWriters(b *testing.B) {
	ctx := context.Background()
	log := slog.New(slog.NewTextHandler(io.Discard, &slog.HandlerOptions{Level: slog.LevelError}))
	dsn := dbtest.DSN(b)
	must := func(err error) {
		if err != nil {
			b.Fatal(err)
		}
	}
	var at []string
	for i := range 3 {
		st, err := store.Open(ctx, dsn, nil)
		must(err)
		defer st.Close()
		must(st.Migrate(ctx))
		if i == 0 {
			_, err := st.Import(ctx, "bench", "bench", worldgen.Generate(1, worldgen.Size{Guests: 10_000}, now), nil)
			must(err)
		}
		svc, err := service.New(ctx, st, nil, log)
		must(err)
		if i == 0 {
			must(svc.MakeAccount(ctx, "bench", "", service.Account{Name: "bench", Role: "administrator"}, "some-words-for-a-bench-41"))
		}
		h, err := api.New(api.Options{Service: svc, Store: st, Log: log})
		must(err)
		srv := httptest.NewServer(h)
		defer srv.Close()
		following, stop := context.WithCancel(ctx)
		done := make(chan struct{})
		go func() { defer close(done); svc.Run(following, 100*time.Millisecond) }()
		defer func() { stop(); <-done }()
		at = append(at, srv.URL)
	}
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 256}}
	resp, err := client.Post(at[0]+"/api/v1/tokens", "application/json",
		strings.NewReader(`{"name":"bench","password":"some-words-for-a-bench-41"}`))
	must(err)
	var token struct{ Token string }
	must(json.NewDecoder(resp.Body).Decode(&token))
	_ = resp.Body.Close()
	var next atomic.Int64
	for _, services := range []int{1, 3} {
		for _, writers := range []int{1, 8, 64, 200} {
			b.Run(fmt.Sprintf("services=%d/writers=%d", services, writers), func(b *testing.B) {
				var mu sync.Mutex
				var took []time.Duration
				refused := 0
				for b.Loop() {
					var wg sync.WaitGroup
					each := max(2, 400/writers)
					for w := range writers {
						wg.Go(func() {
							for range each {
								req, _ := http.NewRequest("POST", at[w%services]+"/api/v1/bars",
									strings.NewReader(fmt.Sprintf(`{"name":"bar%d.example","reason":"x"}`, next.Add(1))))
								req.Header.Set("Authorization", "Bearer "+token.Token)
								req.Header.Set("Content-Type", "application/json")
								begun := time.Now()
								resp, err := client.Do(req)
								if err != nil {
									b.Error(err)
									return
								}
								text, _ := io.ReadAll(resp.Body)
								_ = resp.Body.Close()
								mu.Lock()
								switch resp.StatusCode {
								case 201:
									took = append(took, time.Since(begun))
								case 503:
									refused++
								default:
									b.Errorf("%d %s", resp.StatusCode, text)
								}
								mu.Unlock()
							}
						})
					}
					wg.Wait()
				}
				slices.Sort(took)
				b.ReportMetric(float64(len(took))/b.Elapsed().Seconds(), "changes/s")
				b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "p50-ms")
				b.ReportMetric(float64(took[len(took)*99/100].Microseconds())/1000, "p99-ms")
				b.ReportMetric(float64(refused), "refused")
			})
		}
	}
}

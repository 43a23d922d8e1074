package api

import (
	"context"
	"net/http"
	"runtime"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/store"
)

// metrics counts what happens, in the Prometheus text format.
type metrics struct {
	registry  *prometheus.Registry
	requests  *prometheus.HistogramVec
	decisions *prometheus.CounterVec
	asked     [64][2]atomic.Pointer[prometheus.Counter] // those of decisions that were counted already, by action and whether it was a yes
}

func newMetrics(o *Options) *metrics {
	m := &metrics{registry: prometheus.NewRegistry(),
		requests: prometheus.NewHistogramVec(
			prometheus.HistogramOpts{
				Name:    "wexillum_request_seconds",
				Help:    "Requests by route and status.",
				Buckets: []float64{.0005, .001, .005, .025, .1, .5, 2.5, 10},
			},
			[]string{"method", "route", "status"},
		),
		decisions: prometheus.NewCounterVec(
			prometheus.CounterOpts{Name: "wexillum_decisions_total", Help: "Decisions by action and outcome."},
			[]string{"action", "decision"},
		)}
	m.registry.MustRegister(m.requests, m.decisions, &present{o}, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	for name, pool := range o.Store.Pools() {
		m.registry.MustRegister(collectors.NewDBStatsCollector(pool, name))
	}
	return m
}

// present is what is counted at the moment that somebody asks, all of it of one moment.
type present struct{ *Options }

// Describe says that the figures are found out when they are asked for.
func (p *present) Describe(chan<- *prometheus.Desc) {}

// asksIn is how long figures are waited for that the database says.
const asksIn = 3 * time.Second

// Collect finds the figures out. Those that cannot be found out are left out, so that an alert on their absence tells.
func (p *present) Collect(out chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), asksIn)
	defer cancel()
	svc := p.Service
	say := func(name, help string, v float64) {
		out <- prometheus.MustNewConstMetric(prometheus.NewDesc(name, help, nil, nil), prometheus.GaugeValue, v)
	}
	since := func(at time.Time) float64 { return svc.Now().Time().Sub(at).Seconds() }
	st := svc.State()
	out <- prometheus.MustNewConstMetric(prometheus.NewDesc("wexillum_build_info", "1, with what runs.", nil, prometheus.Labels{
		"revision": p.Revision, "go": runtime.Version(), "schema": strconv.FormatInt(store.NewestSchema(), 10)}), prometheus.GaugeValue, 1)
	say("wexillum_revision", "Revision of policy that is answered from.", float64(st.Head.Revision))
	say("wexillum_journal_entries", "Journal entries that are answered from.", float64(st.Head.Seq))
	say("wexillum_guests", "Records of outsiders.", float64(st.Counts().Guests))
	say("wexillum_grants", "Grants.", float64(st.Counts().Grants))
	say("wexillum_clock_skew_seconds", "By how much the clock here is before the database's.", svc.ClockSkew().Seconds())
	if at := svc.Followed(); !at.IsZero() {
		say("wexillum_follow_lag_seconds", "How long ago the database was asked last what others changed, and answered.", since(at))
	}
	say("wexillum_read_anew_total", "How often everything was read from the database since the start.", float64(svc.ReadAnew()))
	if at := svc.FileWritten(); !at.IsZero() {
		say("wexillum_snapshot_file_age_seconds", "How long ago the file was written that the next start begins with.", time.Since(at).Seconds())
	}
	behind := 0.0
	if at := svc.Carried(); at.IsSet() {
		behind = since(at.Time())
	}
	say("wexillum_steps_behind_seconds", "How long ago everything that was due had been carried out.", behind)
	say("wexillum_changes_waiting", "Changes that wait for their turn to be written.", float64(p.Store.ChangesWaiting()))
	if x, err := p.Store.MailNow(ctx, svc.Now()); err == nil {
		say("wexillum_mail_waiting", "Messages that are due and not sent yet.", float64(x.Waiting))
		say("wexillum_mail_failed", "Messages that were given up, of the last seven days.", float64(x.Failed))
		oldest := 0.0
		if x.Waiting > 0 {
			oldest = since(x.Oldest.Time())
		}
		say("wexillum_mail_oldest_seconds", "For how long the message has been due that has waited longest.", oldest)
	}
	if n, err := p.Store.EventsWaiting(ctx, st.Head.Seq); err == nil {
		say("wexillum_events_waiting", "Journal entries that the receiver of events which is furthest behind has not been told.", float64(n))
	}
	if b, ok, err := p.Store.LastBackup(ctx); err == nil && ok {
		if at, err := time.Parse(time.RFC3339, b.At); err == nil {
			say("wexillum_backup_age_seconds", "How old the state is that the last backup holds.", since(at))
			say("wexillum_backup_bytes", "How big the last backup is.", float64(b.Bytes))
		}
	}
	if broken, unknown, judged := svc.ExpectationsNow(); judged {
		say("wexillum_expectations_broken", "Expectations that do not hold.", float64(broken))
		say("wexillum_expectations_unknown", "Expectations of which it is not known whether they hold.", float64(unknown))
	}
	if p.Certificate != nil {
		say("wexillum_certificate_seconds", "For how long the certificate of our own https is good.", -since(p.Certificate()))
	}
	n := svc.SystemsNow()
	for _, x := range []struct {
		name, help string
		of         int
	}{
		{"wexillum_systems_away", "Systems that could not be read or written when that was tried last.", n.Away},
		{"wexillum_system_settings_open", "Settings that are on their way to a system.", n.Open},
		{"wexillum_system_settings_wrong", "Settings of carried systems that failed, differ after their span, or wait for somebody.", n.Wrong},
		{"wexillum_system_records_open", "Records that are on their way to a system.", n.RecordsOpen},
		{"wexillum_system_records_wrong", "Records that do not stand in a system as they are meant.", n.RecordsWrong},
		{"wexillum_system_records_drifting", "Records that were changed in a system behind our back.", n.RecordsDrift},
		{"wexillum_system_records_unknown", "Records of systems that stand for nothing here and are not let be.", n.RecordsUnknown},
		{"wexillum_system_records_braked", "Records that wait to be taken away because they are more than go in a day.", n.Braked},
		{"wexillum_system_settings_drifting", "Settings that were changed in a system behind our back.", n.Drift},
	} {
		say(x.name, x.help, float64(x.of))
	}
	for _, x := range n.Read {
		out <- prometheus.MustNewConstMetric(prometheus.NewDesc("wexillum_system_read_age_seconds", "How long ago a system was read whole.",
			[]string{"system"}, nil), prometheus.GaugeValue, since(x.At.Time()), x.System)
	}
}

func (m *metrics) request(method, route string, status int, took time.Duration) {
	if route == "" {
		route = "console"
	}
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions:
	default:
		method = "other" // whatever a stranger sends is one label
	}
	m.requests.WithLabelValues(method, route, statusText(status)).Observe(took.Seconds())
}

// decided counts a decision. Finding a counter by its labels takes longer than a
// decision does, so that it is done once for each.
func (m *metrics) decided(action catalogue.ActionID, yes bool) {
	d, k := "no", 0
	if yes {
		d, k = "yes", 1
	}
	known := m.asked[action][k].Load()
	if known == nil {
		c := m.decisions.WithLabelValues(action.String(), d)
		known = &c
		m.asked[action][k].Store(known)
	}
	(*known).Inc()
}

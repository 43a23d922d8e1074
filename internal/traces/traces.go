// Package traces tells of how long what a request brings about takes, by OpenTelemetry (OTLP over HTTP), where somebody collects that.
// Nothing that it sends names anybody: routes, tables and systems, and no paths, addresses or values.
package traces

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/sdk/resource"
	"go.opentelemetry.io/otel/sdk/trace"
	api "go.opentelemetry.io/otel/trace"
)

var format = propagation.TraceContext{} // W3C Trace Context

func tracer() api.Tracer { return otel.Tracer("wexillum.example") }

// Begin sends spans to a collector from now on, as http://127.0.0.1:4318; which of them, the environment says (OTEL_TRACES_SAMPLER, all
// without it). end sends what is left.
func Begin(ctx context.Context, collector, revision string) (end func(context.Context) error, err error) {
	if _, err := url.Parse(collector); err != nil {
		return nil, fmt.Errorf("traces %q: %w", collector, err)
	}
	out, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(collector+"/v1/traces"))
	if err != nil {
		return nil, fmt.Errorf("traces: %w", err)
	}
	p := trace.NewTracerProvider(trace.WithBatcher(out),
		trace.WithResource(resource.NewSchemaless(attribute.String("service.name", "wexillum"), attribute.String("service.version", revision))))
	otel.SetTracerProvider(p)
	return p.Shutdown, nil
}

// Span is one thing that takes time.
type Span struct{ of api.Span }

// Request begins the span of a request that came in, within the one that it was sent in, if it says so.
func Request(r *http.Request) (context.Context, Span) {
	ctx := format.Extract(r.Context(), propagation.HeaderCarrier(r.Header))
	ctx, s := tracer().Start(ctx, r.Method, api.WithSpanKind(api.SpanKindServer))
	return ctx, Span{s}
}

// Answered ends the span of a request: with its route, and what was answered.
func (s Span) Answered(method, route, id string, status int) {
	if !s.of.IsRecording() {
		return
	}
	if route == "" {
		route = "console"
	}
	s.of.SetName(method + " " + route)
	s.of.SetAttributes(attribute.String("http.request.method", method), attribute.String("http.route", route),
		attribute.Int("http.response.status_code", status), attribute.String("wexillum.request_id", id))
	if status >= 500 {
		s.of.SetStatus(codes.Error, "")
	}
	s.of.End()
}

// Begun begins the span of something within what ctx is in.
func Begun(ctx context.Context, name string) (context.Context, Span) {
	ctx, s := tracer().Start(ctx, name)
	return ctx, Span{s}
}

// Mark notes that something happened within the span, as that a wait was over.
func (s Span) Mark(what string) { s.of.AddEvent(what) }

// Done ends it; err is nil where it went well. What the error says stays here: it may name somebody.
func (s Span) Done(err error) {
	if err != nil {
		s.of.SetStatus(codes.Error, "")
	}
	s.of.End()
}

// Outgoing sends requests within the span that their context is in, to a system by its host.
type Outgoing struct{ http.RoundTripper }

// RoundTrip is as of http.RoundTripper.
func (o Outgoing) RoundTrip(r *http.Request) (*http.Response, error) {
	ctx, s := tracer().Start(r.Context(), r.Method+" "+r.URL.Host, api.WithSpanKind(api.SpanKindClient))
	r = r.Clone(ctx)
	format.Inject(ctx, propagation.HeaderCarrier(r.Header))
	res, err := o.RoundTripper.RoundTrip(r)
	if err == nil {
		s.SetAttributes(attribute.String("http.request.method", r.Method), attribute.String("server.address", r.URL.Host),
			attribute.Int("http.response.status_code", res.StatusCode))
	}
	Span{s}.Done(err)
	return res, err
}

package api

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/http"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/check"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

// CheckList checks a list while it comes in and answers while it is being found:
// neither the list nor the answer is ever whole in memory.
func (s *server) CheckList(ctx context.Context, r apigen.CheckListRequestObject) (apigen.CheckListResponseObject, error) {
	st := s.state(ctx)
	opts := check.Options{
		Into:   world.Resource{Kind: catalogue.OurDirectory, ID: "ours"},
		As:     opt(r.Params.As),
		Bundle: opt(r.Params.Bundle),
	}
	var err error
	if opts.At, err = s.at(st, r.Params.At); err != nil {
		return nil, err
	}
	if into := opt(r.Params.Into); into != "" {
		if opts.Bundle != "" {
			return nil, &service.Invalid{Field: "bundle", Value: opts.Bundle, Reason: "name a space or a bundle, one of them"}
		}
		if opts.Into, err = engine.ParseResource(into); err != nil {
			return nil, err
		}
	}
	if me := whoIs(ctx); me.Own() {
		if opts.As == "" {
			opts.As = me.Person
		}
		var space *world.Resource
		if opts.Into.Kind == catalogue.Space {
			space = &opts.Into
		}
		if err := me.ChecksLists(st, opts.As, opts.Bundle != "", space); err != nil {
			return nil, err
		}
		known, err := s.Service.KnownTo(ctx, st, me)
		if err != nil {
			return nil, err
		}
		opts.Stranger = func(a addr.Address) bool { return known.Stranger(a, &opts.Into) }
	}
	c, err := check.New(st.Snapshot, opts)
	if err != nil {
		return nil, err
	}
	list := io.Reader(http.NoBody)
	if r.Body != nil {
		list = r.Body
	}
	// Reading on after the answer has begun is what makes long lists need no memory.
	w := ctx.Value(writerKey).(http.ResponseWriter)
	if err := http.NewResponseController(w).EnableFullDuplex(); err != nil {
		return nil, err
	}
	// What makes no sense of the list as a whole is told before the answer begins.
	in := bufio.NewReader(list)
	if _, err := in.Peek(1); err == io.EOF {
		return nil, &service.Invalid{
			Field:  "body",
			Value:  "",
			Reason: "the list is empty; send addresses as text/plain, or CSV with column=NAME",
		}
	}
	// In this mode a body that was not read to its end when the answer has been sent is still
	// read while the next request on the connection is: such a connection ends.
	over := func() { w.Header().Set("Connection", "close") }
	out, to := io.Pipe()
	done := make(chan struct{})
	go func() {
		defer close(done)
		w := bufio.NewWriterSize(to, 1<<15)
		e := json.NewEncoder(w)
		e.SetEscapeHTML(false)
		err := check.Split(in, opt(r.Params.Column), func(n int, text string) error {
			if err := ctx.Err(); err != nil {
				return err
			}
			l := c.Check(n, text)
			x := answer.CheckLine(&l)
			return e.Encode(contract.CheckFound{Address: &x})
		})
		if err == nil {
			x := answer.CheckSummary(c)
			err = e.Encode(contract.CheckFound{Summary: &x})
		}
		if err == nil {
			err = w.Flush()
		}
		to.CloseWithError(err)
	}()
	first := bufio.NewReaderSize(out, 1<<15)
	if _, err := first.Peek(1); err != nil { // a column that is not there, a line that is too long
		<-done
		over()
		return nil, err
	}
	return apigen.CheckList200ApplicationxNdjsonResponse{Body: &checking{first, out, done}}, nil
}

// checking is the answer while it is found. Closing it waits until nothing reads the request
// any more: its connection goes on with the next one.
type checking struct {
	io.Reader
	out  *io.PipeReader
	done chan struct{}
}

func (c *checking) Close() error {
	err := c.out.Close()
	<-c.done
	return err
}

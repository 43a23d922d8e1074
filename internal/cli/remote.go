package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wexillum.example/internal/client"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// problemError is a problem that the service answered with.
type problemError struct {
	contract.Problem
	signIn string // the command that signs in to that service
}

func (e *problemError) Error() string {
	text := e.Title
	if d := pick(e.Detail); d != "" {
		text += ": " + d
	}
	if e.Errors != nil {
		for _, x := range *e.Errors {
			text += fmt.Sprintf("\n  line %d, column %d: %s", x.Line, x.Column, x.Message)
		}
	}
	switch e.Status {
	case 401:
		text += "\nsign in with: " + e.signIn
	case 412:
		text += "\nlook at the present state, then repeat the command"
	case 503:
		text += "\ntry again in a moment"
	}
	return text
}

func (e *problemError) wrongUse() bool { return strings.HasSuffix(e.Type, "/wrong-use") }

// remote is the service behind the client.
type remote struct {
	*client.Client
	server  string
	profile string // by which it is kept; empty for the only one
}

// signIn is the command that signs in to the service.
func (r *remote) signIn() string {
	line := "wexillum login --server " + r.server
	if r.profile != "" {
		line += " --profile " + r.profile
	}
	return line + " --name NAME"
}

func (a *app) address() (server, token string) {
	kept := a.readSession()
	server = a.server
	if server == "" {
		server = os.Getenv("WEXILLUM_SERVER")
	}
	if server == "" {
		server = kept.Server
	}
	if server == "" {
		server = "http://127.0.0.1:8470"
	}
	server = strings.TrimRight(server, "/")
	token = os.Getenv("WEXILLUM_TOKEN")
	if token == "" && kept.Server == server {
		token = kept.Token
	}
	return
}

func (a *app) remote() (*remote, error) {
	if _, err := a.sessionFile(); err != nil && a.profileOf() != "" {
		return nil, err
	}
	server, token := a.address()
	u, err := url.Parse(server)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, usage{fmt.Errorf("--server %q: write an address as https://wexillum.example", server)}
	}
	c, err := client.NewClient(
		server,
		client.WithHTTPClient(&http.Client{Timeout: 10 * time.Minute, Transport: &quickly{a, server, token, http.DefaultTransport}}),
	)
	return &remote{c, server, a.profileOf()}, err
}

// copy hands an answer on as it comes; one that is no success is read as any other.
func (r *remote) copy(resp *http.Response, err error, to io.Writer) error {
	if err != nil || resp.StatusCode >= 400 {
		return r.read(resp, err, nil)
	}
	defer resp.Body.Close()
	n, err := io.Copy(to, resp.Body)
	if err != nil {
		return fmt.Errorf("the answer of the service at %s was cut off; what was written is not all of it: %w", r.server, err)
	}
	if n == 0 {
		return r.empty(resp)
	}
	return nil
}

// empty says that an answer that should hold something holds nothing.
func (r *remote) empty(resp *http.Response) error {
	return fmt.Errorf("the service at %s answered %s and nothing else; look whether it was done", r.server, resp.Status)
}

// read takes an answer apart: into where all went well, else the problem.
func (r *remote) read(resp *http.Response, err error, into any) error {
	if err != nil {
		var n notInDraft
		if errors.As(err, &n) {
			return n
		}
		var u *url.Error
		if errors.As(err, &u) && !errors.Is(err, context.Canceled) {
			return fmt.Errorf(
				"the service at %s does not answer: %w\nstart it with wexillum serve, or name another with --server",
				r.server,
				u.Err,
			)
		}
		return err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err != nil {
		return fmt.Errorf("the answer of the service at %s was cut off: %w", r.server, err)
	}
	if resp.StatusCode >= 400 {
		p := &problemError{signIn: r.signIn()}
		if json.Unmarshal(body, &p.Problem) != nil || p.Title == "" {
			p.Title, p.Status = fmt.Sprintf("the service at %s answered %s", r.server, resp.Status), resp.StatusCode
		}
		return p
	}
	if len(body) == 0 && into != nil && (resp.StatusCode == http.StatusOK || resp.StatusCode == http.StatusCreated) {
		return r.empty(resp)
	}
	if into == nil || len(body) == 0 {
		return nil
	}
	if b, ok := into.(*[]byte); ok {
		*b = body
		return nil
	}
	if err := json.Unmarshal(body, into); err != nil {
		return fmt.Errorf("the service at %s answered something else than expected: %w", r.server, err)
	}
	return nil
}

// offline reads a world file for questions without a service.
func (a *app) offline() (*engine.Snapshot, moment.Moment, error) {
	w, now, err := a.fileWorld(a.world, a.with)
	if err != nil {
		return nil, now, err
	}
	return engine.Of(w), now, nil
}

// fileWorld reads a file that stands alone, and lays over it what is supposed: parts, or files that hold some.
func (a *app) fileWorld(name string, with []string) (*world.World, moment.Moment, error) {
	now := moment.Of(time.Now())
	text, err := a.readFile(name)
	if err != nil {
		return nil, now, err
	}
	w, err := a.readWorld(name, text, now)
	if err != nil {
		return nil, now, err
	}
	w = world.Merge(&world.World{}, w)
	for _, part := range with {
		name, text := "--with", []byte("{wexillum: 1, "+part+"}")
		if !strings.Contains(part, ":") {
			if text, err = a.readFile(part); err != nil {
				return nil, now, err
			}
			name = part
		}
		more, err := worldfile.Read(text, worldfile.Options{File: name, Now: now, Known: engine.Of(w)})
		if err != nil {
			return nil, now, err
		}
		w = world.Merge(w, more)
	}
	return w, now, nil
}

// readWorld reads a file that stands alone. What asks whom policy concerns needs what it names, too.
func (a *app) readWorld(name string, text []byte, now moment.Moment) (*world.World, error) {
	unnamed := 0
	w, err := worldfile.Read(text, worldfile.Options{File: name, Now: now, Unnamed: &unnamed})
	if err == nil && unnamed > 0 && !a.policyAlone {
		return nil,
			usage{fmt.Errorf("%s holds policy alone, and names people, groups or places that are not in it: whom it concerns cannot be told from it; use a dump of everything, or ask the service. The commands of rules answer from it, and differs compares it",
				name)}
	}
	return w, err
}

// completion asks the service for ids that a text may mean.
func (a *app) completion(kind string) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return func(c *cobra.Command, args []string, text string) ([]string, cobra.ShellCompDirective) {
		r, err := a.remote()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		ctx, cancel := context.WithTimeout(c.Context(), 2*time.Second)
		defer cancel()
		p := &contract.CompleteParams{Kind: contract.CompleteParamsKind(kind), Q: &text}
		if kind == "resource" && len(args) > 1 {
			p.Action = &args[1]
		}
		resp, err := r.Complete(ctx, p)
		var list struct{ Items []contract.Suggestion }
		if r.read(resp, err, &list) != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var out []string
		for _, s := range list.Items {
			if strings.HasPrefix(s.Value, text) {
				out = append(out, s.Value+"\t"+s.Label)
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

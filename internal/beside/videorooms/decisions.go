package videorooms

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"
)

// Decisions is the service that decides, as AuthZEN has it (OpenID AuthZEN Authorization API 1.0 §5).
type Decisions struct {
	URL       string // of the service, as http://127.0.0.1:8470
	TokenFile string // with a token for decisions; it is read each time, so that it can be replaced
}

// Ask asks whether somebody may do something in a meeting.
func (d Decisions) Ask(ctx context.Context, address, action, meeting string) (out Asked, err error) {
	token, err := os.ReadFile(d.TokenFile)
	if err != nil {
		return out, err
	}
	type entity struct {
		Type string `json:"type,omitempty"`
		ID   string `json:"id,omitempty"`
		Name string `json:"name,omitempty"`
	}
	b, err := json.Marshal(map[string]any{
		"subject": entity{Type: "party", ID: address}, "action": entity{Name: action}, "resource": entity{Type: "meeting", ID: meeting},
		"context": map[string]any{"enforces": met},
	})
	if err != nil {
		return out, err
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimSuffix(d.URL, "/")+"/access/v1/evaluation", bytes.NewReader(b))
	if err != nil {
		return out, err
	}
	q.Header.Set("Content-Type", "application/json")
	q.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	resp, err := http.DefaultClient.Do(q)
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return out, fmt.Errorf("the service that decides answers with %s", resp.Status)
	}
	var x struct {
		Decision bool `json:"decision"`
		Context  struct {
			Conditions []string `json:"conditions"`
			Unenforced []string `json:"unenforced"`
			Reason     string   `json:"reason"`
			Gates      []struct {
				Causes []struct {
					Text string `json:"text"`
				} `json:"causes"`
			} `json:"gates"`
		} `json:"context"`
	}
	if err := json.NewDecoder(io.LimitReader(resp.Body, 1<<20)).Decode(&x); err != nil {
		return out, fmt.Errorf("the service that decides answers what cannot be read: %w", err)
	}
	// what is not met here is said by the condition
	out.Yes, out.Conditions = x.Decision || len(x.Context.Unenforced) > 0, x.Context.Conditions
	var why []string
	if x.Context.Reason != "" {
		why = append(why, x.Context.Reason)
	}
	for _, g := range x.Context.Gates {
		for _, c := range g.Causes {
			why = append(why, c.Text)
		}
	}
	if out.Says = strings.Join(why, " "); !out.Yes && out.Says == "" {
		out.Says = "it is refused"
	}
	return out, nil
}

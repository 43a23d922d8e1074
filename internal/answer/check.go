package answer

import (
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/check"
	"wexillum.example/internal/core/engine"
)

// CheckLine writes what was found of one address of a list.
func CheckLine(l *check.Line) contract.CheckLine {
	out := contract.CheckLine{
		Line:       l.Number,
		Text:       l.Text,
		Address:    text(l.Address),
		Kind:       text(l.Kind),
		Partner:    text(l.Partner),
		Verdict:    contract.CheckLineVerdict(l.Verdict),
		Reason:     text(l.Reason),
		Causes:     CheckCauses(l.Causes),
		Conditions: l.Conditions,
		Next:       text(l.Next()),
	}
	if out.Conditions == nil {
		out.Conditions = []string{}
	}
	if l.Bundle != "" {
		out.Causes = append(
			out.Causes,
			contract.CheckCause{
				Gate: "bundle",
				Code: check.NotForBundle,
				Side: "ours",
				Who:  text("administrator"),
				Text: l.Bundle,
				Next: text(check.NextForBundle),
			},
		)
	}
	return out
}

// CheckCauses writes what stands in the way.
func CheckCauses(causes []engine.Cause) []contract.CheckCause {
	out := []contract.CheckCause{}
	for i := range causes {
		c := &causes[i]
		out = append(
			out,
			contract.CheckCause{
				Gate: c.Gate.String(),
				Code: c.Code.String(),
				Side: c.Side.String(),
				Who:  text(c.WhoText()),
				Text: c.Text(),
				Next: text(c.Next()),
			},
		)
	}
	return out
}

// CheckSummary writes the summary of a list.
func CheckSummary(c *check.Checker) contract.CheckSummary {
	out := contract.CheckSummary{Total: c.Total, Verdicts: map[string]int{}, Causes: c.ByCause, Into: c.Into(), As: c.As()}
	for v, n := range c.Counts {
		out.Verdicts[string(v)] = n
	}
	return out
}

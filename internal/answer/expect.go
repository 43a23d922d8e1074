package answer

import (
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/expect"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// ExpectOf writes what is expected as the contract has it.
func ExpectOf(s *engine.Snapshot, e *world.Expect) contract.Expect {
	out := contract.Expect{Sort: contract.ExpectSort(world.ExpectSortNames[e.Sort])}
	switch e.Sort {
	case world.OnlyParties:
		out.Only = &e.Only
	case world.OnlyUntil:
		day := moment.DayOf(e.Until-1, s.Zone()).String()
		out.OnlyUntil = &day
	case world.AtMost:
		out.AtMost = &e.AtMost
	case world.OnCondition:
		out.Condition = &e.Conditions
	}
	return out
}

// Expectation writes an expectation with what judging it found.
func Expectation(s *engine.Snapshot, x *world.Expectation, j *expect.Judged, judged moment.Moment) contract.Expectation {
	out := contract.Expectation{
		Id: x.ID, Party: x.Party, Action: x.Action, Resource: x.Resource, Expect: ExpectOf(s, &x.Expect), Says: expect.Says(s, x),
		Could: x.Could, Tell: x.Tell, Owner: text(x.Owner), Reason: text(x.Why), State: contract.ExpectationState(j.State.String()),
		Judged: Moment(judged), May: &j.May, Answers: &j.Answer, Examples: []contract.Counterexample{},
	}
	if j.State == expect.Unknown {
		out.Unknown = text(j.Why)
	}
	if j.Could {
		out.OnlyCould = &j.Could
	}
	if j.Empty {
		out.Empty = &j.Empty
	}
	if j.State == expect.Broken {
		out.From, out.Count, out.Parties = Moment(j.At), &j.Count, &j.Parties
	}
	for i := range j.Examples {
		e := &j.Examples[i]
		out.Examples = append(out.Examples, contract.Counterexample{
			Who: e.Who, Name: e.Name, Newcomer: e.Newcomer, Person: text(e.Person), Action: e.Action.String(), Resource: e.Resource.String(),
			Count: e.Count, Conditions: e.Conditions.Names(),
		})
	}
	return out
}

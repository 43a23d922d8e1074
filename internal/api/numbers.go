package api

import (
	"context"
	"sync"
	"time"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
)

// Numbers counts what everybody outside can do. Who asks for it soon gets what was counted last, where counting
// anew takes longer than soonEnough; it says as of when, and that it is behind.
func (s *server) Numbers(ctx context.Context, r apigen.NumbersRequestObject) (apigen.NumbersResponseObject, error) {
	v, st, err := s.when(ctx, r.Params.At)
	if err != nil {
		return nil, err
	}
	key := s.key(v, st, r.Params.At, "numbers")
	if soon := r.Params.Soon != nil && *r.Params.Soon; soon && opt(r.Params.At) == "" && st.AsDraft == "" {
		x, behind, err := s.counting.soon(ctx, key, soonEnough, s.counted(ctx, key, v))
		if behind {
			x.Behind = &behind
		}
		return apigen.Numbers200JSONResponse(x), err
	}
	x, err := s.numbers(ctx, key, v)
	return apigen.Numbers200JSONResponse(x), err
}

// counted counts for whoever waits, or aside for whoever does not.
func (s *server) counted(ctx context.Context, key string, v *answer.View) func(aside bool) (contract.Numbers, error) {
	return func(aside bool) (contract.Numbers, error) {
		mine := *v
		if mine.Aside = aside; aside {
			return mine.Numbers(nil, context.Background().Err)
		}
		return s.numbers(ctx, key, &mine)
	}
}

// countAhead counts once at the start, so that the first who asks does not wait either.
func (s *server) countAhead() {
	ctx := context.Background()
	v, st, err := s.when(ctx, nil)
	if err != nil {
		return
	}
	aside := s.counted(ctx, "", v)
	count := func(bool) (contract.Numbers, error) { return aside(true) }
	if _, _, err := s.counting.soon(ctx, s.key(v, st, nil, "numbers"), 0, count); err != nil {
		s.Log.Warn("everybody could not be counted ahead", "error", err)
	}
}

func (s *server) numbers(ctx context.Context, key string, v *answer.View) (contract.Numbers, error) {
	x, err := s.results.get(ctx, key, func(ctx context.Context) (any, error) { return v.Numbers(ctx.Done(), ctx.Err) })
	if err != nil {
		return contract.Numbers{}, err
	}
	return x.(contract.Numbers), nil
}

// lately keeps the last answer to one question that takes long, and finds it anew beside what else is done.
type lately[T any] struct {
	sync.Mutex
	key   string // of the last answer; empty where there is none
	last  T
	took  time.Duration
	done  time.Time
	going chan struct{} // closed when what is being found is; nil where nothing is
}

// soon answers by the last answer where it is still right. Else it begins to find it anew, unless that is being
// done or was done just now: it rests after each time for as often as long as the time took. It waits so long for
// it; if it is not there then, the last answer is given, which is behind. The first is waited for.
func (l *lately[T]) soon(ctx context.Context, key string, wait time.Duration, find func(aside bool) (T, error)) (
	x T, behind bool, err error,
) {
	l.Lock()
	if l.key == key || l.key == "" {
		none, x := l.key == "", l.last
		l.Unlock()
		if !none {
			return x, false, nil
		}
		began := time.Now()
		if x, err = find(false); err == nil {
			l.keep(key, x, time.Since(began))
		}
		return x, false, err
	}
	if l.going == nil && time.Since(l.done) >= restsBetween*l.took {
		going := make(chan struct{})
		l.going = going
		go func() {
			began := time.Now()
			x, err := find(true)
			if err == nil {
				l.keep(key, x, time.Since(began))
			}
			l.Lock()
			l.going = nil
			l.Unlock()
			close(going)
		}()
	}
	going := l.going
	l.Unlock()
	if going != nil {
		limit := time.NewTimer(wait)
		defer limit.Stop()
		select {
		case <-going:
		case <-limit.C:
		case <-ctx.Done():
			return x, false, ctx.Err()
		}
	}
	l.Lock()
	defer l.Unlock()
	return l.last, l.key != key, nil
}

// restsBetween is how many times as long as it took nobody finds the same anew.
const restsBetween = 4

func (l *lately[T]) keep(key string, x T, took time.Duration) {
	l.Lock()
	defer l.Unlock()
	l.key, l.last, l.took, l.done = key, x, took, time.Now()
}

package service

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"time"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/snapfile"
	"wexillum.example/internal/store"
)

// How often the snapshot file is written: when something changed, after so long, and never for more than one part in twenty of the time.
const (
	fileEvery = 5 * time.Minute
	fileShare = 20
	fileAgain = 30 * time.Second // where it could not be written, or had not to be
)

// fileWasted is the share of what was replaced in it from which on rows are read anew at the next start.
const fileWasted = 0.5

// NewFrom is NewOn that begins with the snapshot file of a path, where there is one that fits, and follows the journal from there on.
// KeepFile keeps it. An empty path is none.
func NewFrom(ctx context.Context, st *store.Store, clock func() time.Time, log *slog.Logger, file string) (*Service, error) {
	s := &Service{store: st, clock: clock, checkClock: true, log: log, file: file, watchers: map[chan store.Head]bool{}}
	if file != "" {
		begun := time.Now()
		err := s.fromFile(ctx)
		if err == nil {
			log.Info("began with the snapshot file", "file", file, "took", time.Since(begun).Round(time.Millisecond).String(), "entries",
				s.State().Head.Seq)
			return s, nil
		}
		no := (*snapfile.Unusable)(nil)
		if errors.As(err, &no) && no.Alien {
			return nil, fmt.Errorf("snapshot_file %q: %w", file, err)
		}
		if !errors.Is(err, fs.ErrNotExist) {
			log.Warn("the snapshot file is not used; everything is read from the database", "file", file, "why", err.Error())
			if no != nil && !no.Another { // it is written anew, whatever its header says
				s.dropFile("it is of no use")
			}
		}
	}
	return s, s.reload(ctx)
}

// fromFile begins with the snapshot file and brings it up to what the database holds.
func (s *Service) fromFile(ctx context.Context) error {
	at, in, told, err := snapfile.Open(s.file)
	if err != nil {
		return err
	}
	x, err := s.ofFile(ctx, at, in, told)
	if err != nil {
		snapfile.Close(in)
		return err
	}
	s.state.Store(&State{Snapshot: x, Head: store.Head{Seq: at.Seq, Revision: at.Revision}})
	s.fileSeq.Store(at.Seq)
	return s.Refresh(ctx)
}

func (s *Service) ofFile(ctx context.Context, at snapfile.At, in, told []byte) (*engine.Snapshot, error) {
	seal, err := s.store.SealAt(ctx, at.Seq)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	if seal != at.Seal {
		return nil, &snapfile.Unusable{Why: "it is of another journal than the database's"}
	}
	var policy *world.World
	if policy, err = s.store.PolicyAt(ctx, store.Head{Seq: at.Seq, Revision: at.Revision}, taking{log: s.log}); err != nil {
		return nil, err
	}
	return engine.Stored(in, told, policy)
}

// KeepFile writes the snapshot file every few minutes, where something changed, and once more when the context ends.
func (s *Service) KeepFile(ctx context.Context) {
	if s.file == "" {
		return
	}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	var next time.Time
	waits := false // it was tried in vain, or nothing changed
	for {
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
			defer cancel()
			s.writeFile(last)
			return
		case <-tick.C:
		}
		if time.Now().Before(next) && (waits || s.fileSeq.Load() != 0) { // one that was removed is written at once
			continue
		}
		begun := time.Now()
		if waits = !s.writeFile(ctx); waits {
			next = time.Now().Add(fileAgain)
		} else {
			next = time.Now().Add(max(fileEvery, fileShare*time.Since(begun)))
		}
	}
}

// writeFile writes what is known now, where the file does not know it yet. Whether it did is returned; what went wrong is logged.
func (s *Service) writeFile(ctx context.Context) bool {
	x := s.State()
	if x.Head.Seq == 0 || s.remembers.Load() {
		return false
	}
	if s.fileSeq.Load() == x.Head.Seq {
		if _, err := os.Stat(s.file); err == nil {
			return false
		}
	}
	if x.Wasted() > fileWasted {
		s.dropFile("half of it was replaced; the next start reads the database")
		return false
	}
	seal, err := s.store.SealAt(ctx, x.Head.Seq)
	if err == nil {
		_, err = snapfile.Write(s.file, snapfile.At{Seq: x.Head.Seq, Revision: x.Head.Revision, Seal: seal}, x.Store)
	}
	switch {
	case errors.Is(err, snapfile.ErrBusy):
		return false
	case err != nil:
		s.log.Error("the snapshot file cannot be written; the next start reads the database", "file", s.file, "error", err)
		return false
	}
	s.fileSeq.Store(x.Head.Seq)
	s.fileAt.Store(time.Now().UnixMilli())
	return true
}

// dropFile takes the snapshot file away.
func (s *Service) dropFile(why string) {
	if s.file == "" {
		return
	}
	s.fileSeq.Store(0)
	err := os.Remove(s.file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		s.log.Error("the snapshot file cannot be removed", "file", s.file, "error", err)
	default:
		s.log.Info("the snapshot file is removed", "file", s.file, "why", why)
	}
}

// FileWritten is when the snapshot file was written last by this service; zero for never.
func (s *Service) FileWritten() time.Time {
	if at := s.fileAt.Load(); at != 0 {
		return time.UnixMilli(at)
	}
	return time.Time{}
}

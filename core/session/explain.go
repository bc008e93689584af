package session

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"syscall"

	"fernladder/core/build"
	"fernladder/core/diagnose"
	"fernladder/core/problem"
)

// An ExplainRequest names logs of builds.
type ExplainRequest struct {
	Logs  []string  // files; "-" is Input
	Input io.Reader // nil: none
	Teach bool      // add the beginning of an entry for the causes.toml of a shelf
}

// An Explanation is what is known of a log.
type Explanation struct {
	Log    string         `json:"log"`
	Cause  diagnose.Cause `json:"cause"`
	Says   string         `json:"says"`
	Advice []string       `json:"advice"`          // filled in by the interface
	Frame  string         `json:"frame,omitempty"` // the beginning of an entry
}

// Explain finds the causes of failures in logs of any builds. Its error of the kind
// problem.Other counts the logs whose cause is not clear.
func (s *Session) Explain(ctx context.Context, r ExplainRequest) ([]Explanation, error) {
	table, _ := s.Causes()
	all := make([]Explanation, len(r.Logs))
	unclear := 0
	for i, log := range r.Logs {
		cause, err := diagnosed(ctx, table, r.Input, log)
		if err != nil {
			return nil, problem.New(problem.Usage, log, "%s cannot be read: %v", log, err).At(problem.Place{Log: log})
		}
		if (!cause.Known() || cause.Kind == diagnose.Said) && cause.Kind != diagnose.Fine {
			unclear++
		}
		all[i] = Explanation{Log: log, Cause: cause, Says: cause.String(), Advice: []string{}}
		if r.Teach {
			all[i].Frame = diagnose.Frame(cause.Decisive())
		}
	}
	if unclear > 0 && !r.Teach {
		return all, problem.New(problem.Other, "", "the cause is not clear in %d of %d logs", unclear, len(all)).
			Coded(problem.Verdict)
	}
	return all, nil
}

// diagnosed reads a log, and the one beside it that it points to.
func diagnosed(ctx context.Context, table *diagnose.Table, in io.Reader, log string) (diagnose.Cause, error) {
	if log != "-" {
		info, err := os.Stat(log)
		if err == nil && info.IsDir() {
			err = errors.New("it is a directory")
		}
		if err != nil {
			return diagnose.Cause{}, err
		}
		absolute, err := filepath.Abs(log)
		if err != nil {
			return diagnose.Cause{}, err
		}
		if info.Mode().IsRegular() {
			return build.Diagnose(table, absolute, filepath.Dir(absolute), filepath.Dir(absolute)), nil
		}
		pipe, err := os.OpenFile(log, os.O_RDONLY|syscall.O_NONBLOCK, 0)
		if err != nil {
			return diagnose.Cause{}, err
		}
		defer context.AfterFunc(ctx, func() { pipe.Close() })()
		defer pipe.Close()
		in = pipe
	}
	const enough = 64 << 20
	text, err := io.ReadAll(io.LimitReader(in, enough))
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	if err != nil {
		return diagnose.Cause{}, err
	}
	return build.DiagnoseText(table, string(text)), nil
}

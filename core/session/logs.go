package session

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fernladder/core/build"
	"fernladder/core/diagnose"
	"fernladder/core/landing"
	"fernladder/core/problem"
	"fernladder/core/store"
)

// A LogsRequest names a package. The zero value of the rest: all logs of its last build.
type LogsRequest struct {
	Name   string
	Stage  string // only of this stage
	Errors bool   // only those in which something went wrong, with the cause
}

// LogsReport is the logs that the last build of a package left, whether it succeeded or not.
type LogsReport struct {
	Build store.Ref  `json:"build"`
	Logs  []StageLog `json:"logs"`
}

// A StageLog is the log of a stage.
type StageLog struct {
	Stage  string          `json:"stage"`
	File   string          `json:"file"`
	Cause  *diagnose.Cause `json:"cause,omitempty"`
	Errors []string        `json:"errors,omitempty"` // the lines around the first
}

// Logs finds the logs of the last build of a package.
func (s *Session) Logs(r LogsRequest) (*LogsReport, error) {
	last, err := s.logged(r)
	if err != nil {
		return nil, err
	}
	report := &LogsReport{Build: last, Logs: []StageLog{}}
	for _, stage := range r.stages() {
		log := StageLog{Stage: stage, File: s.logFile(last, stage)}
		if _, err := os.Stat(log.File); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if r.Errors {
			table, _ := s.Causes()
			cause := build.DiagnoseBuild(table, s.Store, last, log.File)
			if !cause.Known() {
				continue
			}
			log.Cause, log.Errors = &cause, cause.Lines
		}
		report.Logs = append(report.Logs, log)
	}
	return report, nil
}

func (s *Session) logFile(r store.Ref, stage string) string {
	return filepath.Join(s.Store.Logs(r), stage+".log")
}

// stages are those whose logs are asked for.
func (r LogsRequest) stages() []string {
	if r.Stage != "" {
		return []string{r.Stage}
	}
	return build.LoggedStages
}

// logged is the build of a package that wrote a log last.
func (s *Session) logged(r LogsRequest) (store.Ref, error) {
	if r.Stage != "" && !slices.Contains(build.LoggedStages, r.Stage) {
		return store.Ref{}, problem.New(problem.Usage, r.Stage, "there is no log of a stage %q; there are: %s", r.Stage,
			strings.Join(build.LoggedStages, ", "))
	}
	last, found, err := landing.LastLogged(s.Store, r.Name, func(store.Ref) bool { return true })
	if err == nil && !found {
		err = landing.NotBuilt(r.Name, s.Store.Root)
	}
	return last, err
}

// FollowLogs shows what is written to the logs of a package's last build, by its stage, until no
// process builds it any more.
func (s *Session) FollowLogs(ctx context.Context, r LogsRequest,
	show func(of store.Ref, stage string, text io.Reader) error) error {
	last, err := s.logged(r)
	if err != nil {
		return err
	}
	const often = 200 * time.Millisecond
	at := map[string]int64{} // how far each log has been shown
	for ended := false; ; {
		for _, stage := range r.stages() {
			f, err := os.Open(s.logFile(last, stage))
			if err != nil {
				continue // it has not begun
			}
			info, err := f.Stat()
			if err == nil && info.Size() < at[stage] {
				at[stage] = 0 // it has begun anew
			}
			if err == nil && info.Size() > at[stage] {
				err = show(last, stage, io.NewSectionReader(f, at[stage], info.Size()-at[stage]))
				at[stage] = info.Size()
			}
			f.Close()
			if err != nil {
				return s.Store.Wrap(err)
			}
		}
		if ended {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(often):
		}
		// Whoever builds it holds its lock; when that is free, there is one more look.
		soon, cancel := context.WithTimeout(ctx, often/10)
		unlock, err := s.Store.ShareBuild(soon, last)
		cancel()
		if err == nil {
			unlock()
			ended = true
		}
	}
}

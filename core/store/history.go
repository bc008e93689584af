package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	_ "modernc.org/sqlite" // the driver
)

// History is the database of earlier builds. Everything about builds that
// succeeded is in their receipts too, and is read from them when the database
// is lost.
type History struct {
	db *sql.DB
}

// A Record is one build, whether it succeeded or not.
type Record struct {
	Ref
	Began   time.Time   `json:"began"`
	Seconds float64     `json:"seconds"`
	Failed  string      `json:"failed,omitempty"` // the stage that failed, "" for none
	Stages  []StageTime `json:"stages"`

	Size     int64 `json:"size,omitempty"`      // bytes in the files of its tree
	WorkSize int64 `json:"work_size,omitempty"` // bytes that its work directory had in the end
	Memory   int64 `json:"memory,omitempty"`    // bytes that the largest of its processes had
}

// RecordOf is the record of a build that succeeded.
func RecordOf(r *Receipt) Record {
	return Record{Ref: r.Ref, Began: r.Began, Seconds: r.Seconds, Stages: r.Stages, Size: r.Size, WorkSize: r.WorkSize, Memory: r.Memory}
}

// CPU is how many seconds processors were busy with the build.
func (r Record) CPU() (seconds float64) {
	for _, s := range r.Stages {
		seconds += s.CPU
	}
	return seconds
}

// migrations bring a database from the version that is their index to the
// next; SQLite's user_version says which it has.
var migrations = []string{`
	CREATE TABLE build (
		number  INTEGER PRIMARY KEY,
		name    TEXT NOT NULL,
		version TEXT NOT NULL,
		id      TEXT NOT NULL,
		began   TEXT NOT NULL,           -- RFC 3339, UTC
		seconds REAL NOT NULL,
		failed  TEXT NOT NULL,           -- stage, or empty
		UNIQUE (id, began)
	);
	CREATE INDEX build_by_name ON build (name, number);
	CREATE TABLE stage (
		build   INTEGER NOT NULL REFERENCES build (number),
		place   INTEGER NOT NULL,        -- 0 for the first
		name    TEXT NOT NULL,
		seconds REAL NOT NULL,
		PRIMARY KEY (build, place)
	) WITHOUT ROWID;`, `
	ALTER TABLE build ADD COLUMN size INTEGER NOT NULL DEFAULT 0;
	ALTER TABLE build ADD COLUMN work_size INTEGER NOT NULL DEFAULT 0;
	ALTER TABLE build ADD COLUMN memory INTEGER NOT NULL DEFAULT 0;
	ALTER TABLE stage ADD COLUMN cpu REAL NOT NULL DEFAULT 0;`,
}

// HasHistory tells whether there is a database. Commands that only look make
// none.
func (s *Store) HasHistory() bool {
	_, err := os.Stat(s.historyFile())
	return err == nil
}

func (s *Store) historyFile() string { return filepath.Join(s.Root, "fernladder.db") }

// History opens the database, makes it if it is not there, and begins anew from
// the receipts if it is damaged. The damaged file is kept beside it.
func (s *Store) History(ctx context.Context) (*History, error) {
	file, fresh := s.historyFile(), !s.HasHistory()
	h, err := openHistory(ctx, file)
	if err != nil && !fresh && ctx.Err() == nil {
		if err := os.Rename(file, file+".damaged"); err != nil {
			return nil, s.Wrap(err)
		}
		os.Remove(file + "-wal")
		os.Remove(file + "-shm")
		fresh = true
		h, err = openHistory(ctx, file)
	}
	if err != nil {
		return nil, &Error{Path: file, Err: err}
	}
	if fresh {
		receipts, err := s.Receipts()
		if err != nil {
			h.Close()
			return nil, err
		}
		for _, r := range receipts {
			if err := h.Add(ctx, RecordOf(r)); err != nil {
				h.Close()
				return nil, &Error{Path: file, Err: err}
			}
		}
	}
	return h, nil
}

func openHistory(ctx context.Context, file string) (*History, error) {
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	if err := migrate(ctx, db); err != nil {
		db.Close()
		return nil, err
	}
	return &History{db}, nil
}

func migrate(ctx context.Context, db *sql.DB) error {
	var have int
	if err := db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&have); err != nil {
		return err
	}
	if have > len(migrations) {
		return errors.New("this database was written by a newer Fern Ladder")
	}
	for have < len(migrations) {
		tx, err := db.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		// Another program may have done it since.
		err = tx.QueryRow("PRAGMA user_version").Scan(&have)
		if err == nil && have < len(migrations) {
			have++
			_, err = tx.Exec(migrations[have-1] + fmt.Sprintf("; PRAGMA user_version = %d", have))
		}
		if err = errors.Join(err, tx.Commit()); err != nil {
			return err
		}
	}
	return nil
}

// Close ends the use of the database.
func (h *History) Close() error { return h.db.Close() }

// Add adds a build. Adding the same one again changes nothing.
func (h *History) Add(ctx context.Context, r Record) error {
	tx, err := h.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	done, err := tx.Exec("INSERT OR IGNORE INTO build (name, version, id, began, seconds, failed, size, work_size, memory) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
		r.Name, r.Version, r.ID, r.Began.UTC().Format(time.RFC3339Nano), r.Seconds, r.Failed, r.Size, r.WorkSize, r.Memory)
	if err != nil {
		return err
	}
	if added, err := done.RowsAffected(); err != nil || added == 0 {
		return err
	}
	number, err := done.LastInsertId()
	if err != nil {
		return err
	}
	for i, st := range r.Stages {
		if _, err := tx.Exec("INSERT INTO stage (build, place, name, seconds, cpu) VALUES (?, ?, ?, ?, ?)", number, i, st.Stage, st.Seconds, st.CPU); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// Latest returns the newest builds of a package, or of all packages where name
// is "", the last one first.
func (h *History) Latest(ctx context.Context, name string, most int) ([]Record, error) {
	rows, err := h.db.QueryContext(ctx, "SELECT number, name, version, id, began, seconds, failed, size, work_size, memory FROM build WHERE name = ? OR ? = '' ORDER BY number DESC LIMIT ?", name, name, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var records []Record
	var numbers []int64
	for rows.Next() {
		var r Record
		var number int64
		var began string
		if err := rows.Scan(&number, &r.Name, &r.Version, &r.ID, &began, &r.Seconds, &r.Failed, &r.Size, &r.WorkSize, &r.Memory); err != nil {
			return nil, err
		}
		if r.Began, err = time.Parse(time.RFC3339Nano, began); err != nil {
			return nil, err
		}
		records, numbers = append(records, r), append(numbers, number)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	for i := range records {
		if records[i].Stages, err = h.stages(ctx, numbers[i]); err != nil {
			return nil, err
		}
	}
	return records, nil
}

func (h *History) stages(ctx context.Context, number int64) ([]StageTime, error) {
	rows, err := h.db.QueryContext(ctx, "SELECT name, seconds, cpu FROM stage WHERE build = ? ORDER BY place", number)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var stages []StageTime
	for rows.Next() {
		var st StageTime
		if err := rows.Scan(&st.Stage, &st.Seconds, &st.CPU); err != nil {
			return nil, err
		}
		stages = append(stages, st)
	}
	return stages, rows.Err()
}

// Estimate is what a build should take, by the last one of the same package.
type Estimate struct {
	Time     time.Duration
	Width    float64 // processors that were kept busy; 0 when it is not known
	Size     int64   // bytes in the files of its tree
	WorkSize int64   // bytes that its work directory has in the end
	Memory   int64   // bytes that the largest of its processes has
}

// Estimates returns what each package took the last time it was built
// successfully. Packages that never were are left out.
func (h *History) Estimates(ctx context.Context, names []string) (map[string]Estimate, error) {
	estimates := map[string]Estimate{}
	query, err := h.db.PrepareContext(ctx, `SELECT seconds, size, work_size, memory, (SELECT coalesce(sum(cpu), 0) FROM stage WHERE build = number)
		FROM build WHERE name = ? AND failed = '' ORDER BY number DESC LIMIT 1`)
	if err != nil {
		return nil, err
	}
	defer query.Close()
	for _, name := range names {
		var e Estimate
		var seconds, cpu float64
		switch err := query.QueryRowContext(ctx, name).Scan(&seconds, &e.Size, &e.WorkSize, &e.Memory, &cpu); {
		case err == nil:
			e.Time = time.Duration(seconds * float64(time.Second))
			if seconds > 0 {
				e.Width = cpu / seconds
			}
			estimates[name] = e
		case !errors.Is(err, sql.ErrNoRows):
			return nil, err
		}
	}
	return estimates, nil
}

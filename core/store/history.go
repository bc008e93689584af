package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"fernladder/core/filelock"
	"fernladder/core/ground"
)

// History is the database of earlier builds. Everything about builds that
// succeeded is in their receipts too, and is read from them when the database
// is lost.
type History struct {
	db *sql.DB // nil for one in which nothing is
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

// History opens the database to add to it, and makes it from the receipts if it is
// not there. One that is damaged, by what SQLite says of it, is moved aside, beside
// those that were before, and made anew; for every other error it stays as it is.
func (s *Store) History(ctx context.Context) (*History, error) {
	file := s.historyFile()
	if err := s.regularHistory(); err != nil {
		return nil, err
	}
	if s.HasHistory() {
		h, err := openHistory(ctx, file)
		if err == nil {
			err = h.complete(ctx, s)
		}
		if err == nil {
			return h, nil
		}
		if h != nil {
			h.Close()
		}
		if !damaged(err) || ctx.Err() != nil {
			return nil, s.historyError(err)
		}
	}
	// Only one makes it, and the others find it made.
	unlock, err := s.locked(filelock.Exclusive(ctx, s.lockFile("history"), func() {}))
	if err != nil {
		return nil, err
	}
	defer unlock()
	fresh := !s.HasHistory()
	h, err := openHistory(ctx, file)
	if err != nil && !fresh && damaged(err) && ctx.Err() == nil {
		if err := s.moveAside(file); err != nil {
			return nil, s.Wrap(err)
		}
		fresh = true
		h, err = openHistory(ctx, file)
	}
	if err != nil {
		return nil, s.historyError(err)
	}
	if fresh {
		if s.common() {
			os.Chmod(file, 0o664) // who else may write is told when that fails
		}
		if err := h.complete(ctx, s); err != nil {
			h.Close()
			return nil, s.historyError(err)
		}
	}
	return h, nil
}

// complete adds the builds that there are receipts of and no records: all, where the
// database is new; otherwise those of programs that were killed in between.
func (h *History) complete(ctx context.Context, s *Store) error {
	receipts, err := s.Receipts()
	if err != nil {
		return nil // which whoever needs the receipt tells
	}
	known := map[string]bool{}
	rows, err := h.db.QueryContext(ctx, "SELECT DISTINCT id FROM build WHERE failed = ''")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id string
		if err := rows.Scan(&id); err != nil {
			return err
		}
		known[id] = true
	}
	if err := rows.Err(); err != nil {
		return err
	}
	rows.Close()
	for _, r := range receipts {
		if known[r.ID] {
			continue
		}
		if err := h.Add(ctx, RecordOf(r)); err != nil {
			return err
		}
	}
	return nil
}

// ReadHistory opens the database to read it, also one that this user may not write,
// and writes nothing, whatever is wrong with it.
func (s *Store) ReadHistory(ctx context.Context) (*History, error) {
	const readOnly = "?mode=ro&_pragma=busy_timeout(10000)&_pragma=query_only(1)"
	if err := s.regularHistory(); err != nil {
		return nil, err
	}
	var err error
	// Who may not write beside a database cannot share it with those who write; what
	// they have not brought into it yet is not seen then.
	for _, how := range []string{readOnly, readOnly + "&immutable=1"} {
		var db *sql.DB
		if db, err = sql.Open("sqlite", "file:"+s.historyFile()+how); err != nil {
			continue
		}
		db.SetMaxOpenConns(1)
		var have int
		if err = db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&have); err == nil && have > len(migrations) {
			err = errNewer
		} else if err == nil && have == 0 { // it was not finished
			db.Close()
			return &History{}, nil
		} else if err == nil && have < len(migrations) {
			err = errors.New("this database was written by an older Fern Ladder; the next build brings it up to date")
		} else if err == nil {
			_, err = db.ExecContext(ctx, "SELECT 1 FROM build LIMIT 1")
		}
		if err == nil {
			return &History{db}, nil
		}
		db.Close()
	}
	if damaged(err) {
		return nil, &Error{Path: s.historyFile(), Err: errors.New("this database is damaged"), Advice: "The next build makes it anew, from the receipts."}
	}
	return nil, s.historyError(err)
}

func (s *Store) historyError(err error) error {
	return s.Wrap(&fs.PathError{Op: "open", Path: s.historyFile(), Err: err})
}

// failedToWrite tells whether an error is one of SQLite's that a full disk causes.
func failedToWrite(err error) bool {
	const primary = 0xff // of an extended code
	var known *sqlite.Error
	return errors.As(err, &known) && slices.Contains([]int{sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR, sqlite3.SQLITE_CANTOPEN}, known.Code()&primary)
}

// regularHistory says whether the database is a file.
func (s *Store) regularHistory() error {
	info, err := os.Lstat(s.historyFile())
	if err != nil || info.Mode().IsRegular() {
		return nil // or SQLite says what is wrong
	}
	return &Error{Path: s.historyFile(), Err: ground.ErrNotRegular, Advice: "Delete it; the next build makes it anew, from the receipts."}
}

// errNewer is the error for a database whose form is not known yet.
var errNewer = errors.New("this database was written by a newer Fern Ladder")

// errInside is the error for a database that can be opened and is damaged inside.
var errInside = errors.New("it is damaged inside")

// damaged tells whether an error is proof that the file is no database, or not
// whole.
func damaged(err error) bool {
	const primary = 0xff // of an extended code
	var known *sqlite.Error
	return errors.Is(err, errInside) ||
		errors.As(err, &known) && (known.Code()&primary == sqlite3.SQLITE_CORRUPT || known.Code()&primary == sqlite3.SQLITE_NOTADB)
}

// moveAside keeps a damaged database under a name that nothing has.
func (s *Store) moveAside(file string) error {
	for number := 1; ; number++ {
		aside := fmt.Sprintf("%s.damaged-%d", file, number)
		if _, err := os.Lstat(aside); err == nil {
			continue
		}
		for _, part := range []string{"", "-wal", "-shm"} {
			if err := os.Rename(file+part, aside+part); err != nil && (part == "" || !errors.Is(err, os.ErrNotExist)) {
				return err
			}
		}
		return nil
	}
}

func openHistory(ctx context.Context, file string) (*History, error) {
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	err = migrate(ctx, db)
	var found string
	if err == nil {
		err = db.QueryRowContext(ctx, "PRAGMA quick_check(1)").Scan(&found)
	}
	if err == nil && found != "ok" {
		err = fmt.Errorf("%w: %s", errInside, found)
	}
	if err != nil {
		db.Close()
		return nil, err
	}
	return &History{db}, nil
}

func migrate(ctx context.Context, db *sql.DB) error {
	for {
		var have int
		if err := db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&have); err != nil {
			return err
		}
		if have > len(migrations) {
			return errNewer
		}
		if have == len(migrations) {
			return nil
		}
		if err := migrateOnce(ctx, db); err != nil {
			return err
		}
	}
}

// migrateOnce does one migration, whole or not at all.
func migrateOnce(ctx context.Context, db *sql.DB) error {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var have int // another program may have done it since
	if err := tx.QueryRow("PRAGMA user_version").Scan(&have); err != nil || have >= len(migrations) {
		return err
	}
	if _, err := tx.Exec(migrations[have] + fmt.Sprintf("; PRAGMA user_version = %d", have+1)); err != nil {
		return err
	}
	return tx.Commit()
}

// Close ends the use of the database.
func (h *History) Close() error {
	if h.db == nil {
		return nil
	}
	return h.db.Close()
}

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
	if h.db == nil {
		return nil, nil
	}
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

// Estimates returns what each build took the last time: the same one, else one of the
// same release, else the last of its package. Of failed ones nothing is taken. Builds
// of packages that never succeeded are left out.
func (h *History) Estimates(ctx context.Context, builds []Ref) (map[Ref]Estimate, error) {
	estimates := map[Ref]Estimate{}
	if h.db == nil {
		return estimates, nil
	}
	query, err := h.db.PrepareContext(ctx, `SELECT seconds, size, work_size, memory, (SELECT coalesce(sum(cpu), 0) FROM stage WHERE build = number)
		FROM build WHERE name = ? AND failed = '' ORDER BY id = ? DESC, version = ? DESC, number DESC LIMIT 1`)
	if err != nil {
		return nil, err
	}
	defer query.Close()
	for _, b := range builds {
		var e Estimate
		var seconds, cpu float64
		switch err := query.QueryRowContext(ctx, b.Name, b.ID, b.Version).Scan(&seconds, &e.Size, &e.WorkSize, &e.Memory, &cpu); {
		case err == nil:
			e.Time = time.Duration(seconds * float64(time.Second))
			if seconds > 0 {
				e.Width = cpu / seconds
			}
			estimates[b] = e
		case !errors.Is(err, sql.ErrNoRows):
			return nil, err
		}
	}
	return estimates, nil
}

// ofDatabase tells whether an error is one of SQLite's.
func ofDatabase(err error) bool { return errors.As(err, new(*sqlite.Error)) }

package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var fern = Ref{Name: "fern", Version: "1.0-rc1", ID: "0123456789ab"}

// filled makes a store, and a directory with odd files in it.
func filled(t *testing.T) (*Store, string) {
	s := &Store{Root: t.TempDir()}
	require.NoError(t, s.Prepare())
	dir := filepath.Join(s.Root, "work", "stage")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "bin"), 0o755))
	for name, text := range map[string]string{"bin/fern": "x", "a name with spaces # = \\ é\n": "yz"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755))
	}
	require.NoError(t, os.Symlink("bin/fern", filepath.Join(dir, "link to")))
	return s, dir
}

func TestTreeIsThereWithItsReceiptAndNotBefore(t *testing.T) {
	s, dir := filled(t)
	files, size, err := s.Place(dir, fern, nil)
	require.NoError(t, err)
	assert.Equal(t, []int64{3, 3}, []int64{int64(files), size})
	assert.False(t, s.Installed(fern), "placed, but no tree yet")
	none, err := s.Receipts()
	require.NoError(t, err)
	assert.Empty(t, none)

	require.NoError(t, s.Withdraw(fern, dir))
	assert.NoDirExists(t, s.Tree(fern))
	_, _, err = s.Place(dir, fern, nil)
	require.NoError(t, err)
	require.NoError(t, s.Commit(&Receipt{Ref: fern}))
	assert.True(t, s.Installed(fern))
	assert.Error(t, s.Withdraw(fern, dir), "a tree stays")
	assert.Error(t, s.Discard(fern))
	_, _, err = s.Place(dir, fern, nil)
	assert.Error(t, err)

	all, err := s.Receipts()
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, fern, all[0].Ref)

	require.NoError(t, s.Remove(fern))
	assert.NoDirExists(t, filepath.Join(s.Root, "trees", "fern"))
	work, err := filepath.Glob(filepath.Join(s.Root, "work", "*", "*"))
	require.NoError(t, err)
	assert.Empty(t, work, "nothing is left behind")
}

// What a program that ended half-way has left in the place of a tree goes.
func TestRubbishIsReplaced(t *testing.T) {
	s, dir := filled(t)
	old := filepath.Join(s.Tree(fern), "old")
	require.NoError(t, os.MkdirAll(old, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(old, "half"), nil, 0o644))
	require.NoError(t, os.Chmod(old, 0o500))
	_, _, err := s.Place(dir, fern, nil)
	require.NoError(t, err)
	assert.NoDirExists(t, old)
}

func TestFilesListsWhatIsInTheTree(t *testing.T) {
	s, dir := filled(t)
	_, _, err := s.Place(dir, fern, nil)
	require.NoError(t, err)
	files, err := s.Files(fern)
	require.NoError(t, err)
	byPath := map[string]File{}
	for _, f := range files {
		byPath[f.Path] = f
	}
	assert.Equal(t, int64(2), byPath["a name with spaces # = \\ é\n"].Size)
	assert.Equal(t, File{Path: "bin/fern", Mode: 0o755, Size: 1, SHA256: "2d711642b726b04401627ca9fbac32f5c8530fb1903cc4db02258717921a4881"}, byPath["bin/fern"])
	assert.Equal(t, "bin/fern", byPath["link to"].Target)
	assert.True(t, byPath["bin"].Mode.IsDir())
}

func TestHistoryComesBackFromTheReceipts(t *testing.T) {
	s, dir := filled(t)
	ctx := context.Background()
	_, _, err := s.Place(dir, fern, nil)
	require.NoError(t, err)
	began := time.Date(2026, 3, 20, 12, 0, 0, 5000, time.UTC)
	stages := []StageTime{{"configure", 1.5, 1.3}, {"compile", 40, 81.7}}
	require.NoError(t, s.Commit(&Receipt{Ref: fern, Began: began, Seconds: 41.5, Stages: stages, Size: 700, WorkSize: 9000, Memory: 5000}))

	for _, damage := range []string{"lost", "damaged"} {
		file := filepath.Join(s.Root, "fernladder.db")
		if damage == "damaged" {
			require.NoError(t, os.WriteFile(file, []byte("no database, but longer than the header of one, which has a hundred bytes, so that it is read as one"), 0o644))
		}
		h, err := s.History(ctx)
		require.NoError(t, err, damage)
		records, err := h.Latest(ctx, "fern", 10)
		require.NoError(t, err)
		assert.Equal(t, []Record{{Ref: fern, Began: began, Seconds: 41.5, Stages: stages, Size: 700, WorkSize: 9000, Memory: 5000}}, records, damage)

		require.NoError(t, h.Add(ctx, records[0]), "the same again changes nothing")
		require.NoError(t, h.Add(ctx, Record{Ref: fern, Began: began.Add(time.Hour), Seconds: 3, Failed: "compile"}))
		records, err = h.Latest(ctx, "fern", 10)
		require.NoError(t, err)
		assert.Len(t, records, 2)
		assert.Equal(t, "compile", records[0].Failed)
		estimates, err := h.Estimates(ctx, []Ref{fern, {Name: "moss"}})
		require.NoError(t, err)
		assert.Equal(t, map[Ref]Estimate{fern: {Time: 41500 * time.Millisecond, Width: 2, Size: 700, WorkSize: 9000, Memory: 5000}}, estimates, "failures say nothing of how long it takes")
		require.NoError(t, h.Close())
		require.NoError(t, errors.Join(os.Remove(file)))
		os.Remove(file + "-wal")
		os.Remove(file + "-shm")
	}
}

// The history is only thrown away for proof of damage, and never over what was
// thrown away before; who only looks changes nothing.
func TestOnlyDamagedHistoriesGo(t *testing.T) {
	ctx := context.Background()
	s, dir := filled(t)
	_, _, err := s.Place(dir, fern, nil)
	require.NoError(t, err)
	require.NoError(t, s.Commit(&Receipt{Ref: fern}))
	file := filepath.Join(s.Root, "fernladder.db")
	h, err := s.History(ctx)
	require.NoError(t, err)
	for i := range 2000 {
		require.NoError(t, h.Add(ctx, Record{Ref: fern, Began: time.Unix(int64(i), 0), Failed: "compile"}))
	}
	require.NoError(t, h.Close())
	whole, err := os.ReadFile(file)
	require.NoError(t, err)

	// A newer form is kept, and so is one that cannot be opened.
	db, err := sql.Open("sqlite", "file:"+file)
	require.NoError(t, err)
	_, err = db.Exec("PRAGMA user_version = 99")
	require.NoError(t, errors.Join(err, db.Close()))
	for range 2 {
		_, err = s.History(ctx)
		assert.ErrorContains(t, err, "a newer Fern Ladder")
		_, err = s.ReadHistory(ctx)
		assert.ErrorContains(t, err, "a newer Fern Ladder")
	}
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.Mkdir(file, 0o755))
	_, err = s.History(ctx)
	assert.Error(t, err)
	require.NoError(t, os.Remove(file))
	asides := func() []string {
		found, err := filepath.Glob(file + ".damaged-[0-9]")
		require.NoError(t, err)
		return found
	}
	assert.Empty(t, asides())

	for i, damage := range map[int]func([]byte){
		1: func(d []byte) { copy(d[:100], make([]byte, 100)) },
		2: func(d []byte) { // pages inside
			for at := 8 << 10; at < len(d)-1000; at += 4 << 10 {
				copy(d[at:at+900], make([]byte, 900))
			}
		},
	} {
		data := slices.Clone(whole)
		damage(data)
		require.NoError(t, os.WriteFile(file, data, 0o644))
		before := len(asides())
		if h, err := s.ReadHistory(ctx); err == nil {
			h.Close()
		}
		now, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.True(t, slices.Equal(data, now), "reading never writes (%d)", i)
		h, err := s.History(ctx)
		require.NoError(t, err, i)
		records, err := h.Latest(ctx, "", 10)
		require.NoError(t, err)
		assert.Len(t, records, 1, "what the receipts say")
		require.NoError(t, h.Close())
		assert.Len(t, asides(), before+1)
	}
}

// A receipt counts for the tree it lies in, in the root it was made for.
func TestForgedReceipts(t *testing.T) {
	s, dir := filled(t)
	_, _, err := s.Place(dir, fern, nil)
	require.NoError(t, err)
	require.NoError(t, s.Commit(&Receipt{Ref: fern, Configs: []Config{{File: "etc/fern.conf", Sample: "bin/fern"}}}))
	file := filepath.Join(s.Tree(fern), receiptFile)
	good, err := os.ReadFile(file)
	require.NoError(t, err)
	_, err = s.Receipt(fern)
	require.NoError(t, err)
	for name, text := range map[string]string{
		"no format":          "{}",
		"states no format":   "null",
		"damaged":            `{"format": "x"}`,
		"newer Fern Ladder":  strings.Replace(string(good), `"format": 1`, `"format": 2`, 1),
		"that of moss":       strings.Replace(string(good), `"name": "fern"`, `"name": "moss"`, 1),
		"that of the tree /": strings.Replace(string(good), s.Tree(fern), "/etc", 1),
		"root was moved":     strings.Replace(string(good), s.Root, "/srv/old", 1),
		`"." cannot be`:      strings.Replace(string(good), "etc/fern.conf", ".", 1),
		"samples.json":       strings.Replace(string(good), "etc/fern.conf", samplesFile, 1),
		"receipt.json\" can": strings.Replace(string(good), "etc/fern.conf", receiptFile, 1),
		"../x":               strings.Replace(string(good), "etc/fern.conf", "../x", 1),
	} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		_, err := s.Receipt(fern)
		require.Error(t, err, name)
		assert.Contains(t, err.Error(), name)
	}
	require.NoError(t, os.WriteFile(file, good, 0o644))
	list := filepath.Join(s.Tree(fern), filesFile)
	for _, path := range []string{"./../../x", "./a/../../x", "./", "./a\\000b"} {
		require.NoError(t, os.WriteFile(list, []byte("#mtree\n"+path+" type=link link=/etc\n"), 0o644))
		_, err := s.Files(fern)
		assert.ErrorContains(t, err, "damaged", path)
	}
	for _, name := range []string{file, list} {
		require.NoError(t, os.Remove(name))
		require.NoError(t, syscall.Mkfifo(name, 0o644))
	}
	assert.False(t, s.Installed(fern))
	_, err = s.Receipt(fern)
	assert.Error(t, err)
	_, err = s.Files(fern)
	assert.Error(t, err)
}

// What is lent is no tree, whatever the build writes there.
func TestALentPlaceIsNoTree(t *testing.T) {
	s, dir := filled(t)
	require.NoError(t, s.Lend(fern, 0, 0))
	file := filepath.Join(s.Tree(fern), receiptFile)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte(`{"format":1,"name":"fern","version":"1.0-rc1","id":"0123456789ab","tree":"`+s.Tree(fern)+`"}`), 0o644))
	assert.False(t, s.Installed(fern))
	_, err := s.Receipt(fern)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	receipts, err := s.Receipts()
	require.NoError(t, err)
	assert.Empty(t, receipts)
	_, _, err = s.Place(dir, fern, nil)
	require.NoError(t, err)
	assert.NoFileExists(t, file)
	require.NoError(t, s.Commit(&Receipt{Ref: fern}))
	assert.True(t, s.Installed(fern))
	assert.Error(t, s.Lend(fern, 0, 0))
}

// What a program that was killed has left of its own in a tree is in no list.
func TestListsHaveNothingOfOurs(t *testing.T) {
	s, dir := filled(t)
	_, _, err := s.Place(dir, fern, nil)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(s.Tree(fern), "share/fernladder/.receipt.json.new"), nil, 0o600))
	require.NoError(t, s.Withdraw(fern, dir))
	_, _, err = s.Place(dir, fern, nil)
	require.NoError(t, err)
	files, err := s.Files(fern)
	require.NoError(t, err)
	assert.False(t, slices.ContainsFunc(files, func(f File) bool { return strings.HasPrefix(f.Path, "share/fernladder/") }))
}

// What a program that was killed has left for a while goes; what is in use stays.
func TestScratch(t *testing.T) {
	s, _ := filled(t)
	used, done, err := s.Scratch("try")
	require.NoError(t, err)
	left := filepath.Join(s.scratch(), "room-1")
	require.NoError(t, os.MkdirAll(filepath.Join(left, "x"), 0o700))
	require.NoError(t, os.WriteFile(left+scratchLock, nil, 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(s.scratch(), "room-2"), 0o700))
	require.NoError(t, s.Prepare())
	assert.DirExists(t, used)
	info, err := os.Lstat(used + scratchLock)
	require.NoError(t, err)
	assert.True(t, info.Mode().IsRegular(), "a lock that other machines see")
	names, err := filepath.Glob(filepath.Join(s.scratch(), "*"))
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{used, used + scratchLock}, names)
	done()
	assert.NoDirExists(t, used)
	assert.NoFileExists(t, used+scratchLock)
}

// A sample behind a link is not read, wherever the link leads.
func TestSamplesAreInTheirTree(t *testing.T) {
	s, dir := filled(t)
	require.NoError(t, os.Symlink("/etc", filepath.Join(dir, "share")))
	_, _, err := s.Place(dir, fern, nil)
	require.ErrorContains(t, err, "not a directory", "our own directory would be behind the link")
	assert.NoDirExists(t, "/etc/fernladder")
	require.NoError(t, os.Remove(filepath.Join(dir, "share")))
	require.NoError(t, os.Symlink("/etc", filepath.Join(dir, "etc")))
	_, _, err = s.Place(dir, fern, nil)
	require.NoError(t, err)
	for _, sample := range []string{"etc/passwd", "link to", "bin"} {
		err := s.BeginConfigs(&Receipt{Ref: fern, Configs: []Config{{File: "fern.conf", Sample: sample}}})
		assert.Error(t, err, sample)
		assert.NoFileExists(t, s.ConfigFile("fern", "fern.conf"))
	}
	require.NoError(t, s.BeginConfigs(&Receipt{Ref: fern, Configs: []Config{{File: "fern.conf", Sample: "bin/fern"}}}))
}

func TestLogsOfPackagesWithSimilarNames(t *testing.T) {
	s, _ := filled(t)
	for _, dir := range []string{"fern-1.0-0123456789ab", "fern-moss-2.0-0123456789ab"} {
		require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "logs", dir), 0o755))
	}
	logged, err := s.Logged("fern")
	require.NoError(t, err)
	require.Len(t, logged, 1)
	assert.Equal(t, "1.0", logged[0].Version)
}

func TestErrorsOfTheDiskComeWithAdvice(t *testing.T) {
	s := &Store{Root: "/srv/fern"}
	full := s.Wrap(&fs.PathError{Op: "write", Path: "/srv/fern/x", Err: syscall.ENOSPC})
	assert.EqualError(t, full, "/srv/fern/x: no space left on device\n  The disk that holds the root is full. Make room there, or set another root in the settings; then run the same command again. (Root: /srv/fern)")
	assert.Equal(t, full, s.Wrap(full), "wrapped once")
	assert.ErrorContains(t, s.Wrap(&os.LinkError{Op: "rename", Old: "a", New: "/srv/fern/b", Err: syscall.EACCES}), "cannot be written by this user")
}

// What is not about the root is not told as if it were.
func TestOnlyErrorsOfTheRootAreTheRoots(t *testing.T) {
	s := &Store{Root: "/srv/fern"}
	for _, err := range []error{errors.New("there is no git"), &fs.PathError{Op: "open", Path: "/usr/bin/git", Err: fs.ErrNotExist}, &fs.PathError{Op: "open", Path: "/srv/fernery/x", Err: fs.ErrPermission},
		context.DeadlineExceeded, &exec.ExitError{}} {
		assert.Equal(t, err, s.Wrap(err))
	}
	for _, err := range []error{&fs.PathError{Op: "open", Path: "/srv/fern/x", Err: fs.ErrPermission}, &fs.PathError{Op: "openat", Path: "share", Err: fs.ErrNotExist},
		fmt.Errorf("to write: %w", syscall.ENOSPC), os.NewSyscallError("fsync", syscall.EIO)} {
		assert.ErrorAs(t, s.Wrap(err), new(*Error), "%v", err)
	}
}

// The list of files is for other programs too.
func TestListIsReadByMtreeTools(t *testing.T) {
	if _, err := exec.LookPath("bsdtar"); err != nil {
		t.Skip("bsdtar is not here")
	}
	s, dir := filled(t)
	_, _, err := s.Place(dir, fern, nil)
	require.NoError(t, err)
	out, err := exec.Command("bsdtar", "-tf", filepath.Join(s.Tree(fern), filesFile)).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "bin/fern")
}

// Whatever lies in the place of a receipt, it is that of its tree or it is refused.
func FuzzReceipt(f *testing.F) {
	f.Add(`{"format":1,"name":"fern","version":"1.0-rc1","id":"0123456789ab","tree":"@","configs":[{"file":"etc/x","sample":"y"}]}`)
	f.Add(`{"format":1,"name":"fern","needs":null}`)
	f.Fuzz(func(t *testing.T, text string) {
		s := &Store{Root: t.TempDir()}
		file := filepath.Join(s.Tree(fern), receiptFile)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(strings.Replace(text, "@", s.Tree(fern), 1)), 0o644))
		r, err := s.Receipt(fern)
		if err != nil {
			return
		}
		assert.Equal(t, fern, r.Ref)
		assert.Equal(t, s.Tree(fern), r.Tree)
		for _, c := range r.Configs {
			assert.True(t, filepath.IsLocal(c.File) && filepath.IsLocal(c.Sample))
		}
	})
}

// Whatever lies in the place of a list of files, its paths are in the tree.
func FuzzManifest(f *testing.F) {
	f.Add("#mtree\n./bin type=dir mode=0755\n./bin/fern type=file mode=0755 size=1 sha256digest=00\n./a\\040b type=link link=../x\n")
	f.Add("./../x type=link link=/etc\n.// mode=9\n")
	f.Fuzz(func(t *testing.T, text string) {
		s := &Store{Root: t.TempDir()}
		file := filepath.Join(s.Tree(fern), filesFile)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		files, err := s.Files(fern)
		for _, entry := range files {
			assert.True(t, err == nil && filepath.IsLocal(entry.Path) && entry.Path != ".", entry.Path)
			again, err := parseLine(unescape(escape(entry.Path)), "")
			assert.NoError(t, err)
			assert.Equal(t, entry.Path, again.Path)
		}
	})
}

package store

import (
	"bytes"
	"context"
	"encoding/json"
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
	"golang.org/x/sys/unix"
)

var fern = Ref{Name: "fern", Version: "1.0-rc1", ID: "0123456789ab"}

// filled makes a store, and a directory with odd files.
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

// What a killed program has left in the place of a tree is removed.
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

// The permissions of a listed file are restored, unless its contents differ, whatever other
// names it has.
func TestChmodListed(t *testing.T) {
	for name, linked := range map[string]bool{"one name": false, "two names": true} {
		s, dir := filled(t)
		_, _, err := s.Place(dir, fern, nil)
		require.NoError(t, err)
		file, other := filepath.Join(s.Tree(fern), "bin/fern"), filepath.Join(t.TempDir(), "other")
		mode := func(file string) os.FileMode {
			info, err := os.Stat(file)
			require.NoError(t, err)
			return info.Mode().Perm()
		}
		if linked {
			require.NoError(t, os.Link(file, other))
		}
		require.NoError(t, os.Chmod(file, 0o700))
		require.NoError(t, s.ChmodListed(fern, file))
		assert.Equal(t, os.FileMode(0o755), mode(file), name)
		if linked {
			assert.Equal(t, os.FileMode(0o700), mode(other))
			require.NoError(t, os.Remove(other))
			require.NoError(t, os.Link(file, other))
		}
		require.NoError(t, os.WriteFile(file, []byte("else"), 0o700))
		require.NoError(t, os.Chmod(file, 0o600))
		require.ErrorIs(t, s.ChmodListed(fern, file), errOther, name)
		assert.Equal(t, os.FileMode(0o600), mode(file), name)
		assert.NoFileExists(t, filepath.Join(s.Tree(fern), "bin/.fern.new"))
	}
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
	assert.Equal(t,
		File{Path: "bin/fern", Mode: 0o755, Size: 1,
			SHA256: "2d711642b726b04401627ca9fbac32f5c8530fb1903cc4db02258717921a4881"}, byPath["bin/fern"])
	assert.Equal(t, "bin/fern", byPath["link to"].Target)
	assert.True(t, byPath["bin"].Mode.IsDir())
}

func TestHistoryComesBackFromTheReceipts(t *testing.T) {
	s, dir := filled(t)
	_, _, err := s.Place(dir, fern, nil)
	require.NoError(t, err)
	began := time.Date(2026, 3, 20, 12, 0, 0, 5000, time.UTC)
	stages := []StageTime{{"configure", 1.5, 1.3}, {"compile", 40, 81.7}}
	require.NoError(t,
		s.Commit(&Receipt{Ref: fern, Began: began, Seconds: 41.5, Stages: stages, Size: 700, WorkSize: 9000, Memory: 5000}))
	want := Record{Ref: fern, Began: began, Seconds: 41.5, Stages: stages, Size: 700, WorkSize: 9000, Memory: 5000}
	h := s.History()
	for name, before := range map[string]string{"lost": "", "no history": "\x00\x01 not a record\n{}\n{\"name\":\"fern\"",
		"half a line": `{"name":"fern","version":"1`} {
		require.NoError(t, os.WriteFile(h.File(), []byte(before), 0o644))
		latest, err := h.Latest("fern", 10)
		require.NoError(t, err, name)
		assert.Empty(t, latest, name)
		require.NoError(t, h.Complete(t.Context()))
		latest, err = h.Latest("", 10)
		require.NoError(t, err)
		assert.Equal(t, []Record{want}, latest, name)
		require.NoError(t, h.Complete(t.Context()), "the same again changes nothing")
		require.NoError(t, h.Add(t.Context(), want))
		require.NoError(t, h.Add(t.Context(), Record{Ref: Ref{"fern-seed", "1.0", "111111111111"}, Began: began, Seconds: 9}))
		latest, err = h.Latest("fern", 10)
		require.NoError(t, err)
		assert.Equal(t, []Record{want}, latest, name)
		failed := Record{Ref: fern, Began: began.Add(time.Hour), Seconds: 3, Failed: "compile"}
		line, err := json.Marshal(failed)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(h.File(), append(line, '\n'), 0o644))
		require.NoError(t, h.Complete(t.Context()), "one that failed is not the one that there is a receipt of")
		latest, err = h.Latest("fern", 10)
		require.NoError(t, err)
		assert.Equal(t, []Record{want, failed}, latest)
		require.NoError(t, os.Remove(h.File()))
		require.NoError(t, h.Complete(t.Context()))
		require.NoError(t, h.Add(t.Context(), failed))
		latest, err = h.Latest("", 2)
		require.NoError(t, err)
		assert.Equal(t, []string{"compile", ""}, []string{latest[0].Failed, latest[1].Failed}, "the last one first")
		estimates, err := h.Estimates([]Ref{fern, {Name: "moss"}})
		require.NoError(t, err)
		assert.Equal(t,
			map[Ref]Estimate{fern: {Time: 41500 * time.Millisecond, Width: 2, Size: 700, WorkSize: 9000, Memory: 5000}},
			estimates, "failures say nothing of how long it takes")
	}
	newer, other := Ref{"fern", "1.0", "222222222222"}, Ref{"fern", "2.0", "333333333333"}
	for _, r := range []Ref{other, newer} {
		require.NoError(t, h.Add(t.Context(), Record{Ref: r, Began: began, Seconds: map[Ref]float64{other: 5, newer: 6}[r]}))
	}
	for asked, seconds := range map[Ref]float64{fern: 41.5, other: 5, newer: 6, {"fern", "1.0", "444444444444"}: 6,
		{"fern", "3.0", "555555555555"}: 6} {
		estimates, err := h.Estimates([]Ref{asked})
		require.NoError(t, err)
		assert.Equal(t, seconds, estimates[asked].Time.Seconds(), asked)
	}
}

// A reader of the history cannot block its writer, and a history that has grown too large loses
// its older half.
func TestHistoryIsWrittenWhateverReadersDo(t *testing.T) {
	s := &Store{Root: t.TempDir()}
	require.NoError(t, s.Prepare())
	h := s.History()
	require.NoError(t, h.Add(t.Context(), Record{Ref: fern, Seconds: 1}))
	reader, err := os.Open(h.File())
	require.NoError(t, err)
	defer reader.Close()
	require.NoError(t, unix.Flock(int(reader.Fd()), unix.LOCK_EX))
	info, err := os.Stat(s.lockFile("history"))
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o004, "others cannot open what writers lock")
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	require.NoError(t, h.Add(ctx, Record{Ref: fern, Began: time.Unix(1, 0), Seconds: 2}))

	f, err := os.OpenFile(h.File(), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	line := append(bytes.Repeat([]byte("x"), 1<<18-1), '\n')
	for range largestHistory/len(line) + 1 {
		f.Write(line)
	}
	require.NoError(t, f.Close())
	require.NoError(t, h.Add(ctx, Record{Ref: fern, Began: time.Unix(2, 0), Seconds: 3}))
	after, err := os.Stat(h.File())
	require.NoError(t, err)
	assert.Less(t, after.Size(), int64(largestHistory))
	latest, err := h.Latest("fern", 5)
	require.NoError(t, err)
	require.Len(t, latest, 1)
	assert.Equal(t, 3.0, latest[0].Seconds)

	nowhere := (&Store{Root: filepath.Join(t.TempDir(), "none")}).History()
	assert.Error(t, nowhere.Add(ctx, Record{Ref: fern}))
	latest, err = nowhere.Latest("", 1)
	assert.True(t, err == nil && len(latest) == 0, "a root without one has no records")
	common := &Store{Root: t.TempDir()}
	require.NoError(t, errors.Join(common.Prepare(), os.Chmod(common.Root, 0o775)))
	require.NoError(t, common.History().Add(ctx, Record{Ref: fern}))
	shared, err := os.Stat(common.History().File())
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o664), shared.Mode().Perm(), "where a group may install, it may write")

	require.NoError(t, errors.Join(os.Remove(h.File()), unix.Mkfifo(h.File(), 0o644)))
	_, err = h.Latest("", 1)
	assert.ErrorContains(t, err, "not a regular file")
	assert.ErrorContains(t, h.Add(ctx, Record{Ref: fern}), "not a regular file")
}

// A receipt is only valid for its own tree, in its own root.
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

// A lent directory is no tree, whatever the build writes there.
func TestALentPlaceIsNoTree(t *testing.T) {
	s, dir := filled(t)
	require.NoError(t, s.Lend(fern, 0, 0))
	file := filepath.Join(s.Tree(fern), receiptFile)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t,
		os.WriteFile(file, []byte(`{"format":1,"name":"fern","version":"1.0-rc1","id":"0123456789ab","tree":"`+s.Tree(fern)+
			`"}`), 0o644))
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

// Files that a killed program has left in a tree are in no list.
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
	assert.False(t, slices.ContainsFunc(files, func(f File) bool {
		return strings.HasPrefix(f.Path, "share/fernladder/")
	}))
}

// Temporary files of killed programs are removed; those in use stay.
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

// A sample behind a link is not read.
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
	assert.EqualError(t, full,
		"/srv/fern/x: no space left on device\n  The disk that holds the root is full. Make room there, or set another "+
			"root in the settings; then run the same command again. (Root: /srv/fern)")
	assert.Equal(t, full, s.Wrap(full), "wrapped once")
	assert.ErrorContains(t, s.Wrap(&os.LinkError{Op: "rename", Old: "a", New: "/srv/fern/b", Err: syscall.EACCES}),
		"cannot be written by this user")
	assert.ErrorContains(t, s.Wrap(&os.LinkError{Op: "rename", Old: "a", New: "/srv/fern/b", Err: syscall.EXDEV}),
		"are on different file systems")
}

// Errors that do not concern the root are not reported as if they did.
func TestOnlyErrorsOfTheRootAreTheRoots(t *testing.T) {
	s := &Store{Root: "/srv/fern"}
	for _, err := range []error{errors.New("there is no git"),
		&fs.PathError{Op: "open", Path: "/usr/bin/git", Err: fs.ErrNotExist},
		&fs.PathError{Op: "open", Path: "/srv/fernery/x", Err: fs.ErrPermission},
		context.DeadlineExceeded, &exec.ExitError{}} {
		assert.Equal(t, err, s.Wrap(err))
	}
	for _, err := range []error{&fs.PathError{Op: "open", Path: "/srv/fern/x", Err: fs.ErrPermission},
		&fs.PathError{Op: "openat", Path: "share", Err: fs.ErrNotExist},
		fmt.Errorf("to write: %w", syscall.ENOSPC), os.NewSyscallError("fsync", syscall.EIO)} {
		assert.ErrorAs(t, s.Wrap(err), new(*Error), "%v", err)
	}
}

// The list of files can be read by other programs.
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

// Whatever is in the place of a receipt is the receipt of its tree, or rejected.
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

// Whatever is in the place of a list of files, its paths are in the tree.
func FuzzManifest(f *testing.F) {
	f.Add("#mtree\n./bin type=dir mode=0755\n./bin/fern type=file mode=0755 size=1 sha256digest=00\n./a\\040b " +
		"type=link link=../x\n")
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

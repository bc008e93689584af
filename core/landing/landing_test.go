package landing

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/problem"
	"fernladder/core/store"
)

func ref(name, version string) store.Ref {
	return store.Ref{Name: name, Version: version, ID: "0123456789ab"}
}

// plant installs a build with these files, or links NAME -> TARGET, and with more lines in its
// receipt.
func plant(t *testing.T, s *store.Store, r store.Ref, says store.Receipt, files ...string) store.Ref {
	stage := filepath.Join(t.TempDir(), "stage")
	require.NoError(t, os.Mkdir(stage, 0o755))
	for _, name := range files {
		name, target, link := strings.Cut(name, " -> ")
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(stage, name)), 0o755))
		if link {
			require.NoError(t, os.Symlink(target, filepath.Join(stage, name)))
			continue
		}
		require.NoError(t, os.WriteFile(filepath.Join(stage, name), []byte(r.Version), 0o755))
	}
	_, _, err := s.Place(stage, r, nil)
	require.NoError(t, err)
	says.Ref = r
	require.NoError(t, s.Commit(&says))
	return r
}

func open(t *testing.T) *store.Store {
	s := &store.Store{Root: t.TempDir()}
	require.NoError(t, s.Prepare())
	return s
}

var noon = time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC)

// bring changes the landing to these builds by these rules.
func bring(s *store.Store, rules Rules, asked ...Asked) (Result, error) {
	rules.Number = max(rules.Number, 10)
	return Update{Rules: rules, Now: noon, Command: "bring",
		Choose: func(State) ([]Asked, error) { return asked, nil }}.Do(context.Background(), s)
}

func goTo(s *store.Store, rules Rules, number int) (Result, error) {
	return Update{Rules: rules, Now: noon, Use: func(State) (int, error) { return number, nil }}.Do(context.Background(),
		s)
}

func read(t *testing.T, name string) string {
	data, err := os.ReadFile(name)
	if err != nil {
		return "not there"
	}
	return string(data)
}

func landed(t *testing.T, s *store.Store, name string) string {
	return read(t, filepath.Join(Directory(s), name))
}

func TestLandingChangesInOneStepAndGoesBack(t *testing.T) {
	s := open(t)
	one := plant(t, s, ref("fern", "1.0"), store.Receipt{}, "bin/fern", "share/fern/a/b", "share/info/dir")
	two := plant(t, s, ref("fern", "2.0"), store.Receipt{}, "bin/fern", "bin/frond")
	moss := plant(t, s, ref("moss", "1.0"), store.Receipt{}, "bin/moss", "share/info/dir")

	first, err := bring(s, Rules{}, Plain(one, moss)...)
	require.NoError(t, err)
	assert.Equal(t, 1, first.After.Number)
	assert.Equal(t, "1.0", landed(t, s, "share/fern/a/b"))
	assert.Equal(t, "not there", landed(t, s, "share/fernladder/receipt.json"))
	assert.Equal(t, "not there", landed(t, s, "share/info/dir"), "which both have, and neither may own")

	same, err := bring(s, Rules{}, Plain(one, moss)...)
	require.NoError(t, err)
	assert.False(t, same.Changed(), "nothing to do")

	second, err := bring(s, Rules{}, Plain(two, moss)...)
	require.NoError(t, err)
	assert.Equal(t, 2, second.After.Number)
	assert.Equal(t, "2.0", landed(t, s, "bin/fern"))
	current, err := Current(s)
	require.NoError(t, err)
	assert.Equal(t, second.After, current)

	earlier, err := Earlier(s, current)
	require.NoError(t, err)
	back, err := goTo(s, Rules{}, earlier)
	require.NoError(t, err)
	assert.Equal(t, first.After, back.After)
	assert.Equal(t, "1.0", landed(t, s, "bin/fern"))
	assert.Equal(t, "not there", landed(t, s, "bin/frond"))
	third, err := bring(s, Rules{}, Plain(moss)...)
	require.NoError(t, err)
	assert.Equal(t, []int{3, 1}, []int{third.After.Number, third.After.From},
		"a state is made from the one in use, and has a new number")
	_, err = goTo(s, Rules{}, 0)
	require.NoError(t, err)
	assert.NoFileExists(t, Directory(s))

	require.NoError(t, s.Remove(two))
	_, err = goTo(s, Rules{}, 2)
	var lost *Lost
	require.ErrorAs(t, err, &lost)
	assert.Equal(t, []store.Ref{two}, lost.Builds)
	_, err = goTo(s, Rules{}, 9)
	require.ErrorIs(t, err, Gone)
	assert.Equal(t, []string{"1", "2", "3"}, problem.Remedies(err)[0].Args)

	all, err := History(s)
	require.NoError(t, err)
	forgotten, err := Forget(s, all)
	require.NoError(t, err)
	assert.Equal(t, []int{1, 2, 3}, forgotten)
}

// Going back restores the previous state, whichever way the landing came there, even if a
// program was killed between a change and its record.
func TestGoingBack(t *testing.T) {
	s := open(t)
	for _, v := range []string{"1.0", "2.0", "3.0"} {
		_, err := bring(s, Rules{}, Plain(plant(t, s, ref("fern", v), store.Receipt{}, "bin/fern"))...)
		require.NoError(t, err)
	}
	back := func() (int, error) {
		u := Update{Back: true, Use: func(now State) (int, error) { return Earlier(s, now) }}
		r, err := u.Do(t.Context(), s)
		return r.After.Number, err
	}
	expect := func(numbers ...int) {
		t.Helper()
		for _, number := range numbers {
			got, err := back()
			require.NoError(t, err)
			assert.Equal(t, number, got)
		}
	}
	_, err := goTo(s, Rules{}, 1)
	require.NoError(t, err)
	expect(3, 2, 1, 0)
	_, err = back()
	assert.ErrorIs(t, err, errNothingBefore)
	for _, n := range []int{2, 3, 1} {
		_, err = goTo(s, Rules{}, n)
		require.NoError(t, err)
	}
	require.NoError(t, os.WriteFile(wayFile(s), []byte("[0,2,3]"), 0o644))
	expect(3, 2, 0)
	for _, n := range []int{2, 3} {
		_, err = goTo(s, Rules{}, n)
		require.NoError(t, err)
	}
	require.NoError(t, os.WriteFile(wayFile(s), []byte("[0,2,3,1]"), 0o644))
	expect(2)
	require.NoError(t, os.WriteFile(wayFile(s), []byte("{"), 0o644))
	expect(1)
}

func TestConflictsAreRefusedUntilTheyAreDecided(t *testing.T) {
	s := open(t)
	fern := plant(t, s, ref("fern", "1.0"), store.Receipt{}, "bin/grow", "bin/fern")
	moss := plant(t, s, ref("moss", "2.0"), store.Receipt{}, "bin/grow")
	stone := plant(t, s, ref("stone", "1.0"), store.Receipt{}, "bin/grow/slowly")
	_, err := bring(s, Rules{}, Plain(fern)...)
	require.NoError(t, err)
	for _, other := range []store.Ref{moss, stone} {
		for _, asked := range [][]Asked{Plain(fern, other), Plain(other, fern)} {
			_, err := bring(s, Rules{}, asked...)
			var conflict *Conflict
			require.ErrorAs(t, err, &conflict)
			assert.Equal(t, []string{"bin/grow"}, conflict.Paths)
			assert.ElementsMatch(t, []store.Ref{fern, other}, []store.Ref{conflict.First.Ref, conflict.Second.Ref})
			assert.Equal(t, []string{other.Name}, conflict.Only, "it has nothing else")
		}
	}
	assert.Equal(t, "1.0", landed(t, s, "bin/grow"), "the landing stays as it was")

	for name, rule := range map[string]struct {
		rule              Name
		grow, other, mine string
	}{
		"first": {Name{Package: "moss", File: "bin/grow", First: true}, "2.0", "", "not there"},
		"off":   {Name{Package: "moss", File: "bin/grow", Off: true}, "1.0", "", "not there"},
		"as":    {Name{Package: "moss", File: "bin/grow", As: "bin/grow-moss"}, "1.0", "bin/grow-moss", "2.0"},
	} {
		_, err := bring(s, Rules{Names: []Name{rule.rule}}, Plain(fern, moss)...)
		require.NoError(t, err, name)
		assert.Equal(t, rule.grow, landed(t, s, "bin/grow"), name)
		assert.Equal(t, "1.0", landed(t, s, "bin/fern"), name)
		if rule.other != "" {
			assert.Equal(t, rule.mine, landed(t, s, rule.other), name)
		}
	}
}

func TestMembersAreWhatIsAskedForAndWhatItRunsWith(t *testing.T) {
	s := open(t)
	water := plant(t, s, ref("water", "1.0"), store.Receipt{})
	soil := plant(t, s, ref("soil", "1.0"), store.Receipt{Needs: []store.Link{{Ref: water, Role: "runtime"}}})
	spade := plant(t, s, ref("spade", "1.0"), store.Receipt{})
	fern := plant(t, s, ref("fern", "1.0"),
		store.Receipt{Needs: []store.Link{{Ref: soil, Role: "runtime"}, {Ref: spade, Role: "tool"}}})
	members, err := Members(Plain(fern, water), s.Needs)
	require.NoError(t, err)
	assert.Equal(t, []Member{{Ref: fern, Asked: true}, {Ref: soil}, {Ref: water, Asked: true}}, members)

	newer := plant(t, s, ref("water", "2.0"), store.Receipt{})
	_, err = Members(Plain(fern, newer), s.Needs)
	var clash *Clash
	require.ErrorAs(t, err, &clash)
	assert.Equal(t, Clash{Wanted: newer, Needed: water, By: soil}, *clash)
	members, err = Members([]Asked{{Ref: fern}, {Ref: newer, Beside: true}}, s.Needs)
	require.NoError(t, err, "beside another, it does not clash")
	assert.Equal(t, []Member{{Ref: fern, Asked: true}, {Ref: soil}, {Ref: water}, {Ref: newer, Asked: true, Beside: true}},
		members)
	members, err = Members(Plain(fern, fern), s.Needs)
	require.NoError(t, err)
	assert.Len(t, members, 3)
	_, err = Members(Plain(fern, ref("fern", "2.0")), s.Needs)
	assert.ErrorAs(t, err, &clash, "one name is one package's")
	_, err = Members(Plain(ref("gone", "1.0")), s.Needs)
	assert.ErrorIs(t, err, store.ErrGone)
}

// A state is forgotten if it is beyond the number and older than the age.
func TestExpired(t *testing.T) {
	now := time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC)
	var all []Remembered
	for i, hours := range []int{100, 90, 80, 50, 49, 1} {
		all = append(all, Remembered{State: State{Number: i + 1, Made: now.Add(-time.Duration(hours) * time.Hour)},
			InUse: i == 1})
	}
	all = append(all, Remembered{State: State{Number: 9}, Damaged: os.ErrInvalid})
	expired := func(r Rules, before int) (numbers []int) {
		for _, x := range r.expired(all, before, now) {
			numbers = append(numbers, x.Number)
		}
		return numbers
	}
	assert.Equal(t, []int{3, 1}, expired(Rules{Number: 3, Age: 0}, 0))
	assert.Equal(t, []int{3, 1}, expired(Rules{Number: 1, Age: 50 * time.Hour}, 0), "as old as that stays")
	assert.Equal(t, []int{1}, expired(Rules{Number: 1, Age: 50 * time.Hour}, 3), "what it goes back to stays")
	assert.Empty(t, expired(Rules{Number: 5}, 0))
}

func TestBuildsStandSideBySide(t *testing.T) {
	s := open(t)
	says := func(as string) store.Receipt {
		return store.Receipt{Beside: []store.Beside{{File: "bin/fern", As: as}}}
	}
	one := plant(t, s, ref("fern", "1.0"), says("bin/fern1"), "bin/fern", "share/fern/old")
	two := plant(t, s, ref("fern", "2.0"), says("bin/fern2"), "bin/fern", "share/fern/new")
	for front, other := range map[store.Ref]store.Ref{one: two, two: one} {
		r, err := bring(s, Rules{}, Asked{Ref: front}, Asked{Ref: other, Beside: true})
		require.NoError(t, err)
		assert.Equal(t, front.Version, landed(t, s, "bin/fern"))
		assert.Equal(t, "1.0", landed(t, s, "bin/fern1"))
		assert.Equal(t, "2.0", landed(t, s, "bin/fern2"))
		assert.Equal(t, front.Version == "2.0", landed(t, s, "share/fern/new") == "2.0",
			"what has no name of its own is not there")
		assert.Equal(t, front, r.After.Find("fern").Ref)
	}
}

func TestProgramsOfTheSystemComeFirst(t *testing.T) {
	s := open(t)
	fern := plant(t, s, ref("fern", "1.0"), store.Receipt{Beside: []store.Beside{{File: "bin/grow", As: "bin/grow1"}}},
		"bin/grow", "bin/fern", "share/man/man1/grow.1.gz", "lib/grow")
	system := func(name string) string { return map[string]string{"grow": "/usr/bin/grow"}[name] }
	r, err := bring(s, Rules{System: System{Program: system}}, Plain(fern)...)
	require.NoError(t, err)
	assert.Equal(t, []string{"not there", "1.0", "1.0", "not there", "1.0"},
		[]string{landed(t, s, "bin/grow"), landed(t, s, "bin/grow1"), landed(t, s, "bin/fern"),
			landed(t, s, "share/man/man1/grow.1.gz"), landed(t, s, "lib/grow")})
	assert.Equal(t, Naming{Build: fern, File: "bin/grow", As: []string{"bin/grow1"}, Why: BySystem,
		System: "/usr/bin/grow"}, r.After.Named[0])

	r, err = bring(s, Rules{System: System{Program: system}, Before: []string{"fern"}}, Plain(fern)...)
	require.NoError(t, err)
	assert.Equal(t, "1.0", landed(t, s, "bin/grow"))
	assert.Equal(t, OverIt, r.After.Named[0].Why)
}

// A directory is one link if one build has all of it, and no other build would add to it.
func TestFoldersOfOnePackageAreOneLink(t *testing.T) {
	s := open(t)
	fern := plant(t, s, ref("fern", "1.0"), store.Receipt{}, "bin/fern", "share/fern/a/b", "share/fern/c",
		"include/plants/fern", "lib/pkgconfig/fern.pc", "share/doc/fern/README", "lib/python3.11/site-packages/fern/x.py",
		"include/mine/off", "include/mine/on")
	moss := plant(t, s, ref("moss", "1.0"), store.Receipt{}, "include/plants/moss", "share/moss-y/m")
	_, err := bring(s, Rules{Names: []Name{{Package: "fern", File: "include/mine/off", Off: true}}}, Plain(fern, moss)...)
	require.NoError(t, err)
	for name, folded := range map[string]bool{"share/fern": true, "share/doc/fern": true,
		"lib/python3.11/site-packages/fern": true, "share/moss-y": true,
		"include/plants": false, "lib/pkgconfig": false, "share/doc": false, "share": false, "include/mine": false,
		"lib/python3.11": false} {
		info, err := os.Lstat(filepath.Join(Directory(s), name))
		require.NoError(t, err, name)
		assert.Equal(t, folded, info.Mode()&os.ModeSymlink != 0, name)
	}
	assert.Equal(t, "1.0", landed(t, s, "share/fern/a/b"))
	assert.Equal(t, "not there", landed(t, s, "include/mine/off"))
}

// The author of a recipe or source can hide nothing of the operating system by another way, nor
// get others' names linked.
func TestHostileTreesGainNothing(t *testing.T) {
	s := open(t)
	out := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(out, "sudo"), nil, 0o755))
	rules := Rules{System: System{Program: func(name string) string {
		return map[string]string{"sudo": "/usr/bin/sudo"}[name]
	}}, Shared: filepath.Join(t.TempDir(), "local")}
	require.NoError(t, os.MkdirAll(rules.Shared+"/share/fern-plugins", 0o755))
	fern := plant(t, s, ref("fern", "1.0"),
		store.Receipt{Beside: []store.Beside{{File: "libexec/x", As: "bin/sudo"}, {File: "libexec/x", As: "../../up"},
			{File: "libexec/x", As: "share/fernladder/x"}}},
		"bin -> "+out, "sbin -> libexec", "libexec/x", "libexec/sudo", "share/fern-plugins -> "+out, "share/fern-\xff\n/a b")
	r, err := bring(s, rules, Plain(fern)...)
	require.NoError(t, err)
	for _, name := range []string{"bin", "bin/sudo", "sbin", "sbin/sudo", "share/fernladder", "share/fern-plugins/sudo"} {
		assert.NoFileExists(t, filepath.Join(rules.Shared, name), name)
	}
	assert.NoFileExists(t, filepath.Join(Directory(s), "bin/sudo"))
	assert.NoFileExists(t, filepath.Join(Directory(s), "sbin/sudo"))
	assert.Equal(t, []Blocked{{Path: "share/fern-plugins", Is: "a directory"}}, r.Shared.Blocked)
	var why []Why
	for _, n := range r.After.Named {
		why = append(why, n.Why)
	}
	assert.Equal(t, []Why{ByLink, Untrusted, Untrusted, ByLink}, why, "what is in libexec has no name of its own")
	assert.Equal(t, "1.0", read(t, filepath.Join(rules.Shared, "share/fern-\xff\n/a b")))
	_, err = goTo(s, rules, 0)
	require.NoError(t, err)
	assert.Equal(t, []string{"share", "share/fern-plugins"}, tree(t, rules.Shared), "names that are no text go too")
}

// Foreign files in a directory are never touched, and all of ours are removed.
func TestOntoADirectoryThatOthersUse(t *testing.T) {
	s := open(t)
	one := plant(t, s, ref("fern", "1.0"), store.Receipt{}, "bin/fern", "bin/grow", "share/fern/a",
		"share/fern-ours/x y/é")
	two := plant(t, s, ref("fern", "2.0"), store.Receipt{}, "bin/fern", "bin/frond", "share/fern/b")
	dir := filepath.Join(t.TempDir(), "local")
	rules := Rules{Shared: dir}
	put := func(name string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("theirs"), 0o644))
	}
	put("bin/grow")
	put("share/fern/theirs")
	before := tree(t, dir)

	r, err := bring(s, rules, Plain(one)...)
	require.NoError(t, err)
	assert.Equal(t, []Blocked{{Path: "bin/grow", Is: "a file"}}, r.Shared.Blocked)
	assert.Equal(t, []string{"1.0", "theirs", "1.0", "theirs", "1.0"},
		[]string{read(t, dir+"/bin/fern"), read(t, dir+"/bin/grow"), read(t, dir+"/share/fern/a"),
			read(t, dir+"/share/fern/theirs"), read(t, dir+"/share/fern-ours/x y/é")})
	info, err := os.Lstat(dir + "/share/fern-ours")
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeSymlink, "a folder of one package is one link")

	_, err = bring(s, rules, Plain(two)...)
	require.NoError(t, err)
	assert.Equal(t, []string{"2.0", "2.0", "2.0", "not there", "not there"},
		[]string{read(t, dir+"/bin/fern"), read(t, dir+"/bin/frond"), read(t, dir+"/share/fern/b"),
			read(t, dir+"/share/fern/a"), read(t, dir+"/share/fern-ours/x y/é")})

	// A file that replaces a link of ours stays.
	require.NoError(t, os.Remove(dir+"/bin/frond"))
	put("bin/frond")
	r, err = goTo(s, rules, 1)
	require.NoError(t, err)
	assert.Equal(t, []Blocked{{Path: "bin/frond", Is: "a file"}}, r.Shared.Strange)
	r, err = goTo(s, rules, 2)
	require.NoError(t, err)
	r, err = goTo(s, rules, 1)
	require.NoError(t, err)
	assert.Equal(t, []Blocked{{Path: "bin/frond", Is: "a file"}}, r.Shared.Strange, "it is told as long as it is there")
	require.NoError(t, os.Remove(dir+"/bin/frond"))
	r, err = goTo(s, rules, 0)
	require.NoError(t, err)
	assert.Empty(t, r.Shared.Strange)
	assert.Equal(t, before, tree(t, dir), "exactly ours is gone")

	// Another directory takes over, and then none.
	_, err = goTo(s, rules, 2)
	require.NoError(t, err)
	other := filepath.Join(t.TempDir(), "other")
	_, err = goTo(s, Rules{Shared: other}, 2)
	require.NoError(t, err)
	assert.Equal(t, before, tree(t, dir))
	assert.Equal(t, "2.0", read(t, other+"/bin/fern"))
	dir = other
	put("bin/theirs") // in a directory that we have made
	_, err = goTo(s, Rules{}, 2)
	require.NoError(t, err, "a directory that others use stays")
	assert.Equal(t, []string{"bin", "bin/theirs"}, tree(t, other))
	assert.NoFileExists(t, sharedFile(s))
}

// Files made for tools of others disappear with the last link, and only they.
func TestCachesInASharedDirectory(t *testing.T) {
	for name, spoil := range map[string]func(file string) error{
		"there": func(string) error { return nil }, "gone": os.Remove,
		"with its directory": func(file string) error { return os.RemoveAll(filepath.Dir(filepath.Dir(file))) },
	} {
		s := open(t)
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "theirs"), nil, 0o644))
		fern := plant(t, s, ref("fern", "1.0"), store.Receipt{}, "share/applications/fern.desktop")
		u := Update{Rules: Rules{Shared: dir}, Choose: func(State) ([]Asked, error) {
			return Plain(fern), nil
		}, Caches: func(in string) []Cache {
			if in != dir {
				return nil
			}
			require.NoError(t, os.WriteFile(filepath.Join(in, "share/applications/cache"), nil, 0o644))
			return []Cache{{Name: "desktop", Made: []string{"share/applications/cache"}}}
		}}
		_, err := u.Do(t.Context(), s)
		require.NoError(t, err)
		require.NoError(t, spoil(filepath.Join(dir, "share/applications/cache")))
		_, err = goTo(s, Rules{Shared: dir}, 0)
		require.NoError(t, err, name)
		assert.Equal(t, []string{"theirs"}, tree(t, dir), name)
	}
}

// Whatever a killed program has left, the next one completes.
func TestSharedChangesThatWereBrokenOffAreFinished(t *testing.T) {
	s := open(t)
	one := plant(t, s, ref("fern", "1.0"), store.Receipt{}, "bin/fern", "share/fern/a")
	two := plant(t, s, ref("fern", "2.0"), store.Receipt{}, "bin/frond", "share/fern2/b")
	dir := t.TempDir()
	rules := Rules{Shared: dir}
	_, err := bring(s, rules, Plain(one)...)
	require.NoError(t, err)
	_, err = bring(s, Rules{}, Plain(two)...) // which takes all out of dir
	require.NoError(t, err)
	_, err = bring(s, rules, Plain(one)...)
	require.NoError(t, err)

	u := Update{Rules: rules}
	shared, err := u.openShared(s)
	require.NoError(t, err)
	require.NoError(t, shared.add(s, 2), "killed before the landing is switched")
	shared.close()
	assert.Contains(t, tree(t, dir), "bin/frond")
	_, err = bring(s, rules, Plain(one)...)
	require.NoError(t, err)
	assert.Equal(t, []string{"bin", "bin/fern", "share", "share/fern"}, tree(t, dir), "it stays at the state in use")

	shared, err = u.openShared(s)
	require.NoError(t, err)
	require.NoError(t, shared.add(s, 2))
	require.NoError(t, bringIn(s, 2), "killed after it")
	shared.close()
	_, err = bring(s, rules, Plain(two)...)
	require.NoError(t, err)
	assert.Equal(t, []string{"bin", "bin/frond", "share", "share/fern2"}, tree(t, dir))

	other := t.TempDir()
	shared, err = (&Update{Rules: Rules{Shared: other}}).openShared(s)
	require.NoError(t, err)
	require.NoError(t, shared.add(s, 2), "killed on the way to another directory")
	shared.close()
	assert.Contains(t, tree(t, other), "bin/frond")
	_, err = bring(s, rules, Plain(two)...)
	require.NoError(t, err)
	assert.Equal(t, []string{"bin", "bin/frond", "share", "share/fern2"}, tree(t, dir),
		"the settings lead back to the first")
	assert.Empty(t, tree(t, other))
	records, err := ReadShared(s)
	require.NoError(t, err)
	assert.Len(t, records, 1)
}

func tree(t *testing.T, dir string) []string {
	var all []string
	require.NoError(t, filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		if path != dir {
			all = append(all, path[len(dir)+1:])
		}
		return err
	}))
	return all
}

func TestTheSystemsOwnDirectoriesAreNotShared(t *testing.T) {
	s := open(t)
	fern := plant(t, s, ref("fern", "1.0"), store.Receipt{}, "bin/fern")
	link := filepath.Join(t.TempDir(), "link")
	require.NoError(t, os.Symlink(t.TempDir(), link))
	for _, dir := range []string{"/", "/usr", "/usr/libexec", "/etc/fern", filepath.Join(s.Root, "landing"),
		s.Root, link} {
		_, err := bring(s, Rules{Shared: dir}, Plain(fern)...)
		require.ErrorIs(t, err, BadShared, dir)
	}
	assert.NoFileExists(t, Directory(s), "nothing is changed before that is known")
}

func TestStatesAreKeptByNumberAndAge(t *testing.T) {
	s := open(t)
	fern, moss := plant(t, s, ref("fern", "1.0"), store.Receipt{}, "bin/fern"),
		plant(t, s, ref("moss", "1.0"), store.Receipt{}, "bin/moss")
	change := func(now time.Time, asked ...store.Ref) {
		_, err := Update{Rules: Rules{Number: 2, Age: time.Hour}, Now: now, Choose: func(State) ([]Asked, error) {
			return Plain(asked...), nil
		}}.Do(context.Background(), s)
		require.NoError(t, err)
	}
	for i := range 6 {
		change(noon.Add(time.Duration(i)*time.Minute), []store.Ref{fern, moss}[i%2])
	}
	numbers, _ := States(s)
	assert.Equal(t, []int{1, 2, 3, 4, 5, 6}, numbers, "they are young")
	change(noon.Add(2*time.Hour), fern)
	numbers, _ = States(s)
	assert.Equal(t, []int{5, 6, 7}, numbers)
}

// Whatever a program killed between two steps has left is not in the way.
func TestLeftoversDoNoHarm(t *testing.T) {
	s := open(t)
	fern := plant(t, s, ref("fern", "1.0"), store.Receipt{}, "bin/fern")
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "landings", "1", "bin", "half"), 0o755))
	r, err := bring(s, Rules{}, Plain(fern)...)
	require.NoError(t, err)
	assert.Equal(t, 1, r.After.Number)
	assert.NoDirExists(t, filepath.Join(Directory(s), "bin", "half"))

	require.NoError(t, os.Remove(Directory(s)))
	require.NoError(t, os.Symlink("/elsewhere", Directory(s)))
	_, err = Current(s)
	assert.ErrorContains(t, err, "should be a link to a numbered state")
	_, err = goTo(s, Rules{}, 1)
	require.NoError(t, err, "a state can be brought back, whatever is wrong with the link")
	assert.Equal(t, "1.0", landed(t, s, "bin/fern"))
}

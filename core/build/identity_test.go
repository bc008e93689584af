package build

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/host"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/store"
	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// full is a recipe with every key.
func full() (*recipe.Recipe, *recipe.Release) {
	x := &recipe.Release{Version: version.MustParse("1.0"), Track: recipe.Stable,
		Archive: []string{"https://vale.example/fern.tar.gz"}, Signature: []string{"s"},
		Digest: recipe.Digest{Algorithm: "sha256", Hex: "aa"}, Size: 7, Patches: []string{"a.patch"},
		Defaults: []tomlfile.Pair{{Name: "plots", Values: []string{"off"}}}}
	r := &recipe.Recipe{
		File: "f", Dir: "/d", Name: "fern", Summary: "s", Home: "h", License: "l", Notes: "n",
		Archive: []string{"https://vale.example/a.tar"}, Signature: []string{"s"},
		Keys: []string{"k"}, Releases: []*recipe.Release{x},
		Extras: []*recipe.Extra{{Name: "curves", Archive: []string{"https://vale.example/c.zip"}, Signature: []string{"s"},
			Digest: recipe.Digest{Algorithm: "sha256", Hex: "bb"}, Size: 3, Into: "data"},
			{Name: "crates", Gather: "g", Into: "vendor"}},
		Supplies: []*recipe.Supply{{File: "station.cal", About: "a", Digest: recipe.Digest{Algorithm: "sha256", Hex: "cc"}}},
		Options: []*recipe.Option{{Name: "plots", About: "a", Default: "on", On: []string{"--plots"},
			Off: []string{"--no-plots"}},
			{Name: "kind", About: "a", Group: "g", Default: "x", Values: []tomlfile.Pair{{Name: "x", Values: []string{"--x"}}}},
			{Name: "beds", About: "a", Takes: recipe.Words, Given: []string{"--beds=$FL_VALUE"}, Between: ";"}},
		Presets: []*recipe.Preset{{Name: "small", About: "a",
			Options: []tomlfile.Pair{{Name: "plots", Values: []string{"off"}}}}},
		Needs: []*recipe.Need{{Recipe: "moss", Either: []string{"moss"}, Role: recipe.Library,
			Options: []tomlfile.Pair{{Name: "a", Values: []string{"b"}}}}},
		HostNeeds: []*recipe.HostNeed{{Program: "bison",
			Packages: []tomlfile.Pair{{Name: "debian", Values: []string{"bison"}}}},
			{Either: []*recipe.HostNeed{{Program: "flex",
				Packages: []tomlfile.Pair{{Name: "debian", Values: []string{"flex"}}}}}}},
		HostCopy: &recipe.HostNeed{Module: "fern", Packages: []tomlfile.Pair{{Name: "debian", Values: []string{"fern"}}}},
		Build: recipe.Build{Method: recipe.Make, Dir: "src", Args: []string{"all"}, Parallel: true,
			Env: []tomlfile.Pair{{Name: "CFLAGS", Values: []string{"-O2"}}}},
		Steps:     []recipe.Step{{Name: "place", Script: "p"}, {Name: "compile", Script: "c"}},
		Tries:     []*recipe.Try{{Run: "fern", Expect: "x", Program: "p", Flags: []string{"-l"}, Modules: []string{"m"}}},
		Env:       []tomlfile.Pair{{Name: "FERN", Values: []string{"x"}}},
		Launchers: []*recipe.Launcher{{Name: "Fern", About: "a", Run: "fern", Icon: "i", Categories: []string{"Utility"}}},
		Configs: []*recipe.Config{{File: "etc/fern.conf", Sample: "share/fern.conf", Mode: "0640", Owner: "fern",
			Group: "fern"}},
		Writable: []*recipe.Config{{File: "var/fern", Mode: "0775", Owner: "fern", Group: "fern"}},
		Users:    []*recipe.User{{Name: "fern", About: "Grows", Home: "/var/lib/fern"}},
		Folders:  []*recipe.Folder{{Path: "/var/lib/fern", Owner: "fern", Group: "fern", Mode: "0750"}},
		Owners:   []*recipe.Owner{{File: "bin/fern", Owner: "daemon", Group: "adm", Mode: "2755"}},
		Beside:   []*recipe.Beside{{File: "bin/fern", As: "bin/fern$FL_MAJOR"}}, BeforeSystem: true,
		Upstream: recipe.Upstream{Page: "https://vale.example/"},
		Offers: recipe.Offers{Modules: []string{"m"}, Programs: []string{"p"}, Libraries: []string{"l"},
			CMake: []string{"c"}},
		KnownAs: recipe.KnownAs{Purl: "p", Git: "g", CPE: "c",
			Names: []recipe.EcosystemName{{Ecosystem: "Debian", Name: "fern"}}},
		PatchNotes:  []*recipe.PatchNote{{File: "a.patch", Fixes: []string{"CVE-2026-0001"}}},
		NotAffected: []*recipe.Statement{{ID: "CVE-2026-0002", Because: "b"}},
	}
	return r, x
}

// exempt are the parts of a recipe that cannot change its build. The effective options, needs
// and conditions are hashed separately.
var exempt = []string{
	"File", "Dir", "Summary", "Home", "License", "Notes", "Archive", "Signature", "Keys", "Upstream", "Offers", "HostCopy",
	"Releases.Archive", "Releases.Signature", "Releases.Size", "Releases.Track",
	"Releases.Branch", "Releases.Tag", "Releases.Commit", "Releases.Revision", // of an archive
	"Extras.Name", "Extras.Archive", "Extras.Signature", "Extras.Size", "Supplies.About",
	"Releases.Defaults", "Presets", "Options.About", "Options.Group", "Options.Default", "Options.Implied", "Options.Off",
	"Options.Least", "Options.Most", "Needs", "Extras.Gather", "Extras.Purl", "HostNeeds.Range", "HostNeeds.Either.Range",
	"HostNeeds.Either.Runtime", "HostNeeds.Runtime", "BeforeSystem", "Beside.File", "Beside.As", "Tries", "Build.BareWhy",
	"Build.Memory", "Build.Minutes", "KnownAs", "PatchNotes", "NotAffected",
}

// Every key of a recipe changes the build id, or is listed as exempt, including future keys.
func TestTheBuildIDHashesEverything(t *testing.T) {
	id := func(change func(*recipe.Recipe)) string {
		r, x := full()
		change(r)
		patch := Patch{Digest: recipe.Digest{Algorithm: "sha256", Hex: "dd"}}
		target := Target{TrustedOwners: []string{"fern", "xfern"}, TrustedEnv: []string{"fern", "xfern"},
			Store: &store.Store{Root: "/R"}, System: host.Machine{Arch: "x86_64", Family: "debian"},
			Patches: map[string]Patch{"/d/a.patch": patch, "x/d/a.patch": patch}}
		planned, err := Plan(&resolve.Ladder{Packages: []*resolve.Package{{Recipe: r, Release: x,
			Options: map[string]string{"plots": "on", "kind": "x", "beds": "fern,moss"}, Asked: true}}}, target)
		require.NoError(t, err)
		return planned[0].ID
	}
	same := id(func(*recipe.Recipe) {})
	said := map[string]bool{}
	counts := map[string]bool{} // whether there is one of the name that changes the id
	var walk func(path []string, at func(*recipe.Recipe) reflect.Value, v reflect.Value)
	walk = func(path []string, at func(*recipe.Recipe) reflect.Value, v reflect.Value) {
		name := strings.Join(path, ".")
		change := func(set func(reflect.Value)) string { return id(func(r *recipe.Recipe) { set(at(r)) }) }
		var other string
		switch v.Kind() {
		case reflect.Pointer:
			if !v.IsNil() && v.Type() != reflect.TypeFor[*recipe.Recipe]() &&
				strings.HasPrefix(v.Type().Elem().PkgPath(), "fernladder") {
				walk(path, func(r *recipe.Recipe) reflect.Value { return at(r).Elem() }, v.Elem())
			}
			return
		case reflect.Slice:
			said[name] = said[name] || v.Len() > 0
			for i := range v.Len() {
				walk(path, func(r *recipe.Recipe) reflect.Value { return at(r).Index(i) }, v.Index(i))
			}
			return
		case reflect.Struct:
			if v.Type() == reflect.TypeFor[version.Version]() {
				other = change(func(f reflect.Value) { f.Set(reflect.ValueOf(version.MustParse("9.9"))) })
				break
			}
			for i := range v.NumField() {
				f := v.Type().Field(i)
				// When: decided by Effective.
				if f.IsExported() && f.Name != "Position" && f.Name != "When" &&
					(f.Name != "Either" || len(path) == 1 && path[0] != "HostCopy") {
					walk(append(slices.Clone(path), f.Name), func(r *recipe.Recipe) reflect.Value { return at(r).Field(i) },
						v.Field(i))
				}
			}
			return
		case reflect.String:
			other = change(func(f reflect.Value) { f.SetString("x" + f.String()) })
		case reflect.Int:
			other = change(func(f reflect.Value) { f.SetInt(f.Int() + 1) })
		case reflect.Bool:
			other = change(func(f reflect.Value) { f.SetBool(!f.Bool()) })
		default:
			t.Fatalf("%s is a %s, which this test does not know", name, v.Kind())
		}
		counts[name] = counts[name] || other != same
	}
	for i := range reflect.TypeFor[recipe.Recipe]().NumField() {
		r, _ := full()
		f := reflect.TypeFor[recipe.Recipe]().Field(i)
		if f.IsExported() {
			walk([]string{f.Name}, func(r *recipe.Recipe) reflect.Value {
				return reflect.ValueOf(r).Elem().Field(i)
			}, reflect.ValueOf(r).Elem().Field(i))
		}
	}
	for name, is := range counts {
		free := slices.ContainsFunc(exempt, func(e string) bool {
			return name == e || strings.HasPrefix(name, e+".")
		})
		assert.Equal(t, free, !is, fmt.Sprintf("%s: exempt is %t", name, free))
	}
	for name, is := range said {
		assert.True(t, is, "the full recipe says nothing for %s", name)
	}
	assert.Equal(t, same, id(func(r *recipe.Recipe) {
		r.Steps = append(r.Steps, recipe.Step{Name: "check", Script: "x"})
	}), "the check stage changes nothing of what comes out")
	assert.NotEqual(t, same, id(func(r *recipe.Recipe) {
		r.Releases[0].Archive = []string{"https://vale.example/fern.c"}
	}), "a single file is laid down by its name")
	commit := func(commit string) string {
		return id(func(r *recipe.Recipe) {
			r.Releases[0].Git, r.Releases[0].Commit = "https://vale.example/fern.git", strings.Repeat(commit, 40)
		})
	}
	assert.NotEqual(t, commit("a"), commit("b"))
}

package build

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"github.com/zeebo/blake3"

	"fernladder/core/host"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/store"
	"fernladder/core/tomlfile"
)

// rules is raised whenever a change of this program makes the same recipe give another result.
const rules = 11

// identity is everything that can change the result of a build. Its digest is the build id. A
// field may only be added together with a change of rules.
type identity struct {
	Rules    int
	Name     string
	Version  string
	Source   []string // digest or commit of each part, and where it goes
	Supplies []string
	Patches  []recipe.Digest
	Options  map[string]string
	Args     []string // those of the recipe and of the options in force
	Method   recipe.Method
	Dir      string
	Parallel bool
	InTree   bool
	BuildEnv []tomlfile.Pair
	Env      []tomlfile.Pair
	Steps    map[string]string // but for those of the check stage
	Placed   []string          // launchers and configuration files
	Needs    []store.Link      // names and ids
	ByHost   []string          `json:",omitempty"` // needs that the operating system meets, with versions
	Host     []string          `json:",omitempty"` // the visible part of the operating system
	Bare     bool
	Arch     string
	Compiler string
	Prefix   string `json:",omitempty"` // where it is not the tree
	Unplaced bool   `json:",omitempty"` // that is skipped
}

func identify(job *Job, machine host.Machine) string {
	p, r := job.Package, job.Recipe
	id := identity{
		Rules: rules, Name: p.Name(), Version: p.Release.Version.String(),
		Options: p.Options, Args: arguments(job), Method: r.Build.Method, Dir: r.Build.Dir,
		Parallel: r.Build.Parallel, InTree: r.Build.InTree,
		BuildEnv: r.Build.Env, Env: r.Env, Steps: map[string]string{},
		Needs: job.Links(), Arch: machine.Arch, Compiler: job.Compiler, Prefix: job.Prefix,
		Unplaced: r.Build.SkipUnplaced,
	}
	for i, what := range job.Sources() {
		id.Source = append(id.Source, what+" "+job.Parts[i].Into+" "+job.Parts[i].alone())
	}
	id.ByHost, id.Bare = job.hostCopies(), r.Build.Bare
	for _, n := range r.HostNeeds {
		id.Host = append(id.Host, fmt.Sprint(n.Questions(), n.PackagesOf(machine.Family)))
	}
	for _, s := range r.Supplies {
		id.Supplies = append(id.Supplies, s.Digest.String()+" "+s.File)
	}
	for _, l := range r.Launchers {
		id.Placed = append(id.Placed, fmt.Sprintf("launcher %q %q %q %q %q %t", l.Name, l.About, l.Run, l.Icon, l.Categories,
			l.Terminal))
	}
	for _, c := range r.Configs {
		id.Placed = append(id.Placed, fmt.Sprintf("config %q %q %q %t %q %q", c.File, c.Sample, c.Mode, c.Private,
			c.Owner, c.Group))
	}
	for _, c := range r.Writable {
		id.Placed = append(id.Placed, fmt.Sprintf("writable %q %q %q %t %q %q", c.File, c.Sample, c.Mode, c.Private,
			c.Owner, c.Group))
	}
	for _, o := range r.Owners {
		id.Placed = append(id.Placed, fmt.Sprintf("owner %q %q %q %q", o.File, o.Owner, o.Group, o.Mode))
	}
	for _, u := range r.Users {
		id.Placed = append(id.Placed, fmt.Sprintf("user %q %q %q", u.Name, u.About, u.Home))
	}
	for _, d := range r.Folders {
		id.Placed = append(id.Placed, fmt.Sprintf("directory %q %q %q %q", d.Path, d.Owner, d.Group, d.Mode))
	}
	for _, patch := range job.Patches {
		id.Patches = append(id.Patches, patch.Digest)
	}
	for _, step := range r.Steps {
		if !isCheck(step.Name) {
			id.Steps[step.Name] = step.Script
		}
	}
	text, err := json.Marshal(id) // maps come out sorted
	if err != nil {
		panic(err) // there is nothing in it that has no JSON form
	}
	sum := blake3.Sum256(text)
	return store.ShortID(hex.EncodeToString(sum[:]))
}

// arguments are those of the recipe, followed by those of its options.
func arguments(job *Job) []string {
	args := append([]string{}, job.Recipe.Build.Args...)
	for _, o := range job.Recipe.Options {
		if o.Implied && job.Recipe.Build.Method == recipe.CMake {
			continue // see giveFirstCache
		}
		args = append(args, o.Args(job.Package.Options[o.Name])...)
	}
	return args
}

func digestOf(data []byte) recipe.Digest {
	sum := sha256.Sum256(data)
	return recipe.Digest{Algorithm: "sha256", Hex: hex.EncodeToString(sum[:])}
}

// fits says whether a receipt belongs to a job. The build id covers all of it, but the receipt
// may have been written by another program.
func (j *Job) fits(r *store.Receipt) error {
	wrong := func(what string) error {
		return &store.Error{Path: j.Tree, Err: fmt.Errorf("the receipt does not match its build: %s", what),
			Remedies: []problem.Remedy{problem.Do(problem.RemoveAndRepeat, j.Name)}}
	}
	if len(r.Sources) != len(j.Parts) {
		return wrong("it has other sources")
	}
	for i, part := range j.Parts {
		if part.Checkout != nil && r.Sources[i].Commit != part.Checkout.ID() ||
			part.Checkout == nil && r.Sources[i].Digest != part.Archive.Digest {
			return wrong("it has other sources")
		}
	}
	if r.Prefix != j.away() {
		return wrong("it is for another directory")
	}
	if !maps.Equal(r.Options, j.Package.Options) {
		return wrong("it has other options")
	}
	if !slices.Equal(r.Needs, j.Links()) {
		return wrong("it has other needs")
	}
	return nil
}

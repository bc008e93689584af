package session

import (
	"cmp"
	"context"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"fernladder/core/build"
	"fernladder/core/event"
	"fernladder/core/landing"
	"fernladder/core/ospackage"
	"fernladder/core/pack"
	"fernladder/core/problem"
	"fernladder/core/repository"
	"fernladder/core/signature"
)

// A PackRequest asks for packages of the operating system. Without Ask.Prefix they are made
// of builds that exist; with it, what is named is built for that directory first.
type PackRequest struct {
	BuildRequest
	Format string // deb or rpm; "": this machine's
	To     string // directory of the files; "": the working directory
	Split  bool   // put files that are only needed to build against a package into a separate one
	Name   string // of the package, with a prefix; "": the first named package's
}

// PackReport is the packages that were made.
type PackReport struct {
	Packages []pack.Written   `json:"packages"`
	Unknown  []string         `json:"unknown"` // things of the operating system of which the package is unknown
	Named    []landing.Naming `json:"named"`
	Remarks  []string         `json:"remarks"`

	Format ospackage.Format `json:"-"`
	Build  *BuildReport     `json:"-"` // of a prefix; nil without
}

// Pack makes packages of the operating system out of builds.
func (s *Session) Pack(ctx context.Context, r PackRequest) (*PackReport, error) {
	format, err := s.formatOf(r.Format)
	if err != nil {
		return nil, err
	}
	report := &PackReport{Format: format}
	ask := pack.Ask{Names: r.Names, Format: format, Split: r.Split, Name: r.Name}
	if r.Prefix != "" {
		ask.Names = nil
		if err := pack.Check(s.Machine, ask, r.Names); err != nil {
			return report, err
		}
		if report.Build, err = s.Build(ctx, r.BuildRequest); err != nil {
			return report, err
		}
		asked := report.Build.Ladder.Asked()
		place := func(j *build.Job) int {
			return slices.IndexFunc(r.Names, func(text string) bool {
				name, err := landing.ParseName(text)
				return err == nil && name.Name == j.Name
			})
		}
		slices.SortFunc(asked, func(a, b *build.Job) int { return cmp.Compare(place(a), place(b)) })
		ask.Prefix, ask.Builds = r.Prefix, refs(asked)
	}
	// Lists of files and what packs them take more than most operations.
	defer debug.SetMemoryLimit(debug.SetMemoryLimit(96 << 20))
	planned, err := pack.Plan(ctx, s.Machine, ask)
	if err != nil {
		return report, err
	}
	written, err := pack.Write(ctx, planned.Packages, format, cmp.Or(r.To, "."))
	report.Packages, report.Unknown, report.Named, report.Remarks = written, listed(planned.Unknown),
		listed(planned.Named), listed(planned.Remarks)
	return report, err
}

func (s *Session) formatOf(format string) (ospackage.Format, error) {
	switch ospackage.Format(format) {
	case ospackage.Deb, ospackage.RPM:
		return ospackage.Format(format), nil
	case "":
		switch s.System.Family {
		case "debian":
			return ospackage.Deb, nil
		case "fedora", "suse":
			return ospackage.RPM, nil
		}
		return "", problem.New(problem.Usage, "format",
			"this machine has packages of another kind; choose a format: deb or rpm")
	}
	return "", problem.New(problem.Usage, "format", "the format %s: it can be deb or rpm", format)
}

// A RepositoryRequest names a repository and says how it is changed.
type RepositoryRequest struct {
	Dir        string
	Name       string        // "": its current name, or that of its directory
	KeyFile    string        // with an OpenPGP secret key; or
	AgentKey   string        // the id of a key that gpg and its agent sign with
	AnotherKey bool          // the key may differ from the one before
	Valid      time.Duration // for apt; 0: forever
	Files      []string      // packages to add
	Suite      string        // of apt that .deb files are added to; "": stable
	Keep       int           // newest versions of each package to keep, with their needs; 0: all
	Drop       []string      // NAME or NAME=VERSION to take out
}

// RepositoryChange is what changed in a repository.
type RepositoryChange struct {
	Repository string            `json:"repository"`
	Added      []RepositoryEntry `json:"added"`
	Gone       []RepositoryEntry `json:"gone"`

	OtherKeys int `json:"-"` // packages that are signed with another key
}

// A RepositoryEntry is a package of a repository.
type RepositoryEntry struct {
	Format  ospackage.Format `json:"format"`
	Suite   string           `json:"suite,omitempty"`
	Name    string           `json:"name"`
	Version string           `json:"version"`
	Arch    string           `json:"arch"`
	File    string           `json:"file"`
	Size    int64            `json:"size"`
	SHA256  string           `json:"sha256"`
}

func entries(all []repository.Entry) []RepositoryEntry {
	short := make([]RepositoryEntry, len(all))
	for i, e := range all {
		short[i] = RepositoryEntry{e.Format, e.Suite, e.Name, e.Version, e.Arch, e.File, e.Size, e.SHA256}
	}
	return short
}

func (s *Session) repository(r RepositoryRequest) (*repository.Repository, error) {
	dir, err := filepath.Abs(r.Dir)
	if err != nil {
		return nil, err
	}
	x := &repository.Repository{Dir: dir, Name: r.Name, Now: s.Now, Valid: r.Valid, AnotherKey: r.AnotherKey,
		Waiting: func() {
			s.Tell(event.Event{Kind: event.Waiting, Text: "another fernladder that changes this repository"})
		}}
	if x.Name == "" {
		x.Name = strings.ToLower(filepath.Base(dir))
		// An existing repository is called like its key.
		if keys, err := filepath.Glob(filepath.Join(dir, "*.asc")); err == nil && len(keys) == 1 {
			x.Name = strings.TrimSuffix(filepath.Base(keys[0]), ".asc")
		}
	}
	return x, nil
}

func (s *Session) signingKey(r RepositoryRequest) (signature.Key, error) {
	usage := func(text string) (signature.Key, error) { return nil, problem.New(problem.Usage, "key", "%s", text) }
	switch {
	case r.Keep < 0 || r.Valid < 0:
		return usage("--keep and --valid are numbers from 0 on")
	case r.KeyFile != "" && r.AgentKey != "":
		return usage("--key and --gpg cannot be combined")
	case r.KeyFile != "":
		return signature.ReadKey(r.KeyFile, s.Now)
	case r.AgentKey != "":
		program := s.Programs.Find("gpg")
		if program == "" {
			return usage("there is no gpg on this machine; sign with --key FILE")
		}
		return signature.AgentKey(program, r.AgentKey)
	}
	return usage("a repository is signed; name the key: --key FILE, or --gpg ID")
}

// ChangeRepository adds packages to a repository, which is made if it does not exist, or
// takes packages out.
func (s *Session) ChangeRepository(ctx context.Context, r RepositoryRequest) (*RepositoryChange, error) {
	key, err := s.signingKey(r)
	if err != nil {
		return nil, err
	}
	x, err := s.repository(r)
	if err != nil {
		return nil, err
	}
	var c *repository.Changed
	if len(r.Drop) > 0 {
		c, err = x.Drop(ctx, key, r.Drop)
	} else {
		c, err = x.Add(ctx, key, r.Files, cmp.Or(r.Suite, "stable"), r.Keep)
	}
	if err != nil {
		return nil, err
	}
	report := &RepositoryChange{Repository: x.Dir, Added: entries(c.Added), Gone: entries(c.Gone)}
	for _, e := range c.Now {
		if e.Signer != "" && e.Signer != key.Fingerprint() {
			report.OtherKeys++
		}
	}
	return report, nil
}

// RepositoryReport is what a repository has.
type RepositoryReport struct {
	Repository string            `json:"repository"`
	Name       string            `json:"name"`
	Key        string            `json:"key"` // fingerprint; "": it cannot be read
	Packages   []RepositoryEntry `json:"packages"`
}

// Repository reports what is in a repository.
func (s *Session) Repository(r RepositoryRequest) (*RepositoryReport, error) {
	x, err := s.repository(r)
	if err != nil {
		return nil, err
	}
	all, err := x.Entries()
	if err != nil {
		return nil, err
	}
	key, err := x.SignedBy()
	if err != nil {
		key = ""
	}
	return &RepositoryReport{x.Dir, x.Name, key, entries(all)}, nil
}

// RepositoryCheck is what is wrong in a repository.
type RepositoryCheck struct {
	Repository string             `json:"repository"`
	Packages   int                `json:"packages"`
	Wrong      []repository.Wrong `json:"wrong"`
}

// CheckRepository compares the packages of a repository, its lists and its signatures.
func (s *Session) CheckRepository(ctx context.Context, r RepositoryRequest) (*RepositoryCheck, error) {
	x, err := s.repository(r)
	if err != nil {
		return nil, err
	}
	wrong, packages, err := x.Check(ctx)
	if err == nil && len(wrong) > 0 {
		err = problem.New(problem.Other, x.Dir, "%d files of the repository are wrong", len(wrong)).Coded(problem.Verdict)
	}
	return &RepositoryCheck{x.Dir, packages, listed(wrong)}, err
}

package session

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"time"

	"fernladder/core/buildfile"
	"fernladder/core/draft"
	"fernladder/core/durable"
	"fernladder/core/host"
	"fernladder/core/install"
	"fernladder/core/plan"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// A DraftRequest names a source to draft a recipe for.
type DraftRequest struct {
	From       string // an archive's URL or file, a repository, or a folder
	Name       string // of the package; "": as its files say
	Release    string // "": as its files say
	Branch     string // of a git repository; "": its default
	Subversion bool   // From is a Subversion repository
	Read       bool   // run nothing of the source
	Quick      bool   // find only its look-ups, not its options
	Longest    time.Duration
	Places     []string // folders and pages of archives, from which its needs are drafted, too
	Key        string   // file, URL or key server of the only key to trust; "": the signature is not verified
	Print      bool     // write nothing
	Keep       bool     // do not change an existing recipe

	Install install.Installer // of programs that the configure step lacks; nil: nothing is installed
	// Confirm is asked whether the authors publish the fingerprint of a fetched key; nil:
	// a fetched key is refused.
	Confirm func(*draft.Signer) error

	// These are told as they happen, if they are not nil.
	Listening func(doing string, runs int)
	Listened  func(unheard error)                                      // nil: it was listened to
	Refused   func(archive string, wanted buildfile.Lookup, err error) // a source of Places
}

// DraftReport is a recipe that was drafted.
type DraftReport struct {
	Recipe   string            `json:"recipe"`
	Findings []draft.Finding   `json:"findings"`
	Options  int               `json:"options"`
	Problems tomlfile.Problems `json:"problems"`

	Name      string         `json:"-"` // of the package
	File      string         `json:"-"` // the recipe, as people name it
	Text      string         `json:"-"` // of the recipe
	Buildable string         `json:"-"` // what to install: NAME, or NAME:RANGE for a preview
	Decided   draft.Decided  `json:"-"`
	Hints     []draft.Hint   `json:"-"` // needs named in the source's texts
	Exists    bool           `json:"-"` // the recipe existed, and is unchanged
	Added     *AddedRelease  `json:"-"` // the recipe existed, and has the release now
	Others    []*DraftReport `json:"-"` // its needs, drafted before it
}

// AddedRelease is a release that was added to a recipe.
type AddedRelease struct {
	Version    version.Version
	SHA256     string
	Came, Went []string // options and look-ups
}

// drafting is the work on a draft and on what it needs.
type drafting struct {
	s       *Session
	request DraftRequest
	known   *draft.Known
	places  *draft.Places
	begun   map[string]bool // by URL or file
	tried   map[string]bool // packages that were to be installed
}

// Draft writes most of a recipe for a source onto the first shelf.
func (s *Session) Draft(ctx context.Context, r DraftRequest) (*DraftReport, error) {
	if len(s.Settings.Shelves) == 0 && !r.Print {
		return nil, problem.New(problem.Usage, "", "no shelf is set for the recipe").Remedy(problem.MakeFolder).
			Remedy(problem.PrintDraft)
	}
	d := &drafting{s: s, request: r, begun: map[string]bool{}, tried: map[string]bool{}}
	var err error
	if d.known, err = draft.Survey(s.Shelves, s.Store); err != nil {
		return nil, err
	}
	if d.places, err = draft.PlacesOf(ctx, s.Machine, r.Places); err != nil {
		return nil, err
	}
	return d.draft(ctx, r)
}

func (d *drafting) draft(ctx context.Context, r DraftRequest) (*DraftReport, error) {
	m := d.s.Machine
	d.begun[r.From] = true
	brought, err := draft.Bring(ctx, m, draft.Wanted{From: r.From, Branch: r.Branch, Subversion: r.Subversion})
	if err != nil {
		return nil, err
	}
	defer brought.Done()
	if r.Key != "" {
		if brought.Origin.Signer, err = d.trust(ctx, brought.Origin, r); err != nil {
			return nil, err
		}
	}
	files, done, err := draft.FilesOf(brought.Dir)
	if err != nil {
		return nil, err
	}
	defer done()
	found := draft.Read(files, brought.Name)
	found.Confirm(brought.Origin)
	if err := overrule(found, r); err != nil {
		return nil, err
	}
	report := &DraftReport{Name: found.Name.Value, Hints: found.Hints}
	if r.Keep && d.exists(report.Name) {
		report.Exists = true
		return report, nil
	}
	if !r.Print && d.exists(report.Name) && d.extendable(found, brought.Origin) == nil { // before it is listened to
		return nil, d.alreadyThere(report.Name)
	}
	if report.Others, err = d.needs(ctx, found, brought.Dir); err != nil {
		return nil, err
	}
	if !r.Read && found.Configured() {
		if err := d.listen(ctx, found, brought.Dir, r.Quick); err != nil {
			return nil, err
		}
	}
	questions := found.Questions()
	report.Decided = found.Decide(draft.Evidence{
		Known: d.known, Here: m.Programs.Ask(ctx, "cc", questions, func(host.Question) bool { return true }),
		Owners: m.HostFiles.Owners(questions), Listed: m.HostFiles.There(), Family: m.System.Family,
	})
	if m.System.Family == "debian" && !r.Read {
		name, same := m.Programs.SourcePackage(ctx, found.Name.Value, found.Home.Value)
		found.Distribution = draft.Finding{What: "debian", Value: name, From: "it has the same name",
			Certainty: draft.Guessed}
		if same {
			found.Distribution.From, found.Distribution.Certainty = "the package manager's lists", draft.Certain
		}
	}
	report.Text = found.Compose(brought.Origin, report.Decided, m.System.Family)
	if r.Print {
		return report, nil
	}
	if old := d.extendable(found, brought.Origin); old != nil && !r.Keep {
		report.File = old.File
		report.Added, err = d.addRelease(old, found, brought.Origin)
		return report, err
	}
	d.known.Promise(found, files)
	return report, d.write(found, report, brought.Origin.Signer)
}

// trust verifies the signature of an archive with the requested key.
func (d *drafting) trust(ctx context.Context, o draft.Origin, r DraftRequest) (*draft.Signer, error) {
	signer, err := draft.Trust(ctx, d.s.Machine, o, r.Key)
	switch {
	case errors.Is(err, draft.BadSource):
		return nil, problem.New(problem.Usage, r.Key, "the key: %v", err)
	case err != nil:
		return nil, err
	case r.Confirm != nil:
		return signer, r.Confirm(signer)
	case signer.Asked:
		return nil, problem.New(problem.Usage, r.Key, "the signature is by %s, a fetched key that was not confirmed", signer)
	}
	return signer, nil
}

// exists reports whether the first shelf has a recipe of that name.
func (d *drafting) exists(name string) bool {
	_, err := os.Lstat(filepath.Join(d.s.Settings.Shelves[0].Dir, name, recipe.FileName))
	return err == nil
}

// extendable is the recipe of that name on the first shelf, if it lacks the release and can get it.
func (d *drafting) extendable(found *draft.Source, o draft.Origin) *recipe.Recipe {
	shelf := d.s.Settings.Shelves[0]
	r, err := recipe.Read(filepath.Join(shelf.Dir, found.Name.Value), filepath.Join(shelf.Shown, found.Name.Value))
	if err != nil {
		return nil // it does not exist, or writing the draft reports the error
	}
	v, err := version.Parse(found.Version.Value)
	if err != nil || o.SHA256 == "" || r.Release(v) != nil {
		return nil
	}
	return r
}

func (d *drafting) alreadyThere(name string) error {
	file := filepath.Join(d.s.Settings.Shelves[0].Shown, name, recipe.FileName)
	return problem.New(problem.Usage, file, "%s already exists, and stays as it is", file).Remedy(problem.PrintDraft)
}

// needs drafts what a source takes and no recipe has, from the requested places. A source
// that needs itself, through others, is drafted once.
func (d *drafting) needs(ctx context.Context, found *draft.Source, dir string) (others []*DraftReport, err error) {
	if len(d.request.Places) == 0 {
		return nil, nil
	}
	quick := found.Clone()
	if !d.request.Read && found.Configured() {
		if err := d.listen(ctx, quick, dir, true); err != nil {
			return nil, err
		}
	}
	for _, lack := range quick.Lacks(d.known) {
		archive, is := d.places.For(lack)
		if !is || d.begun[archive] {
			continue
		}
		r := d.request // details given for the named source are not those of others
		r.From, r.Name, r.Release, r.Branch, r.Subversion, r.Key = archive, "", "", "", false, ""
		other, err := d.draft(ctx, r)
		switch {
		case err == nil:
			others = append(others, other)
		case d.request.Refused != nil:
			d.request.Refused(archive, lack, err)
		}
	}
	return others, nil
}

// listen has the source say what it takes, where this machine can run its configure step.
func (d *drafting) listen(ctx context.Context, found *draft.Source, dir string, quick bool) error {
	progress := d.request.Listening
	if progress == nil {
		progress = func(string, int) {}
	}
	for {
		heard := found.Clone()
		err := heard.Listen(ctx, d.s.Machine, dir, d.known, draft.Listening{Quick: quick, Longest: d.request.Longest,
			Progress: progress})
		stopped := errors.As(err, new(*draft.Unheard))
		if err != nil && !stopped && !errors.Is(err, draft.ErrNoRoom) {
			return err
		}
		if stopped {
			installed, err := d.install(ctx, heard)
			if err != nil {
				return err
			}
			if installed {
				continue
			}
		}
		*found = *heard
		if d.request.Listened != nil {
			d.request.Listened(err)
		}
		return nil
	}
}

// install installs the programs that a configure step stopped without.
func (d *drafting) install(ctx context.Context, found *draft.Source) (bool, error) {
	var packages []string
	for _, l := range found.Lookups {
		if l.Kind != string(host.Program) || !l.Required || d.s.Programs.Find(l.Name()) != "" {
			continue
		}
		if _, _, known := d.known.Find(l.Kind, l.Name()); known {
			continue
		}
		q := host.Question{Kind: host.Program, Name: l.Name()}
		of := slices.Concat(host.PackageOf(l.Name(), d.s.System.Family), d.s.HostFiles.Owners([]host.Question{q})[q])
		if len(of) > 0 && !d.tried[of[0]] {
			d.tried[of[0]] = true
			packages = append(packages, of[0])
		}
	}
	if len(packages) == 0 || d.request.Install == nil {
		return false, nil
	}
	return d.request.Install(ctx, packages, true)
}

// addRelease adds the release to a recipe.
func (d *drafting) addRelease(r *recipe.Recipe, found *draft.Source, o draft.Origin) (*AddedRelease, error) {
	v, err := version.Parse(found.Version.Value)
	if err != nil {
		return nil, err
	}
	x := &recipe.Release{Version: v, Track: recipe.Stable, Archive: []string{o.URL}, Size: int(o.Size),
		Digest: recipe.Digest{Algorithm: "sha256", Hex: o.SHA256}}
	if v.Preview() {
		x.Track = recipe.Preview
	}
	for _, url := range r.Archive {
		if r.ExpandURL(url, v.String()) == o.URL {
			x.Archive = nil // as the recipe has it for all releases
		}
	}
	added := &AddedRelease{Version: v, SHA256: o.SHA256}
	if err := r.Change(func(e *tomlfile.Edit) {
		e.InsertBefore("release", recipe.ReleaseText(e.Style("release"), x))
	}); err != nil {
		return added, err
	}
	added.Came, added.Went = found.Changes(r)
	return added, nil
}

// overrule puts what the request says in the place of what was found.
func overrule(found *draft.Source, r DraftRequest) error {
	if r.Name != "" {
		if err := recipe.CheckName(r.Name); err != nil {
			return problem.New(problem.Usage, r.Name, "the name: %v", err)
		}
		found.Name = draft.Finding{What: "name", Value: r.Name, From: "you", Certainty: draft.Certain}
	}
	if r.Release != "" {
		if _, err := version.Parse(r.Release); err != nil {
			return problem.New(problem.Usage, r.Release, "the release: %v", err)
		}
		found.Version = draft.Finding{What: "version", Value: r.Release, From: "you", Certainty: draft.Certain}
	}
	if found.Name.Value == "" {
		return problem.New(problem.Usage, r.From, "no file of the source states the name of the package").
			Remedy(problem.GiveName)
	}
	if found.Version.Value == "" {
		return problem.New(problem.Usage, r.From, "no file of the source states its version").
			Remedy(problem.GiveRelease)
	}
	return nil
}

// write puts the recipe, and the key that it trusts, on the first shelf.
func (d *drafting) write(found *draft.Source, report *DraftReport, signer *draft.Signer) error {
	if len(report.Text) > recipe.Largest {
		return problem.New(problem.Usage, report.Name,
			"the draft would have %d MiB, and at most %d are read: the source has more switches than a recipe can have",
			len(report.Text)>>20, recipe.Largest>>20)
	}
	shelf := d.s.Settings.Shelves[0]
	dir, shown := filepath.Join(shelf.Dir, report.Name), filepath.Join(shelf.Shown, report.Name)
	report.Recipe, report.File = filepath.Join(dir, recipe.FileName), filepath.Join(shown, recipe.FileName)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	var err error
	if signer != nil && !d.exists(report.Name) {
		key := filepath.Join(dir, signer.File(report.Name))
		if err = os.MkdirAll(filepath.Dir(key), 0o755); err == nil {
			err = durable.WriteFile(key, signer.Key, 0o644)
		}
	}
	if err == nil {
		err = create(report.Recipe, report.Text)
	}
	if errors.Is(err, os.ErrExist) {
		return d.alreadyThere(report.Name)
	}
	if err != nil {
		return err
	}
	written, err := recipe.Read(dir, shown)
	if err != nil && !errors.As(err, &report.Problems) {
		return err
	}
	report.Buildable = report.Name
	if err == nil {
		report.Buildable = written.Buildable()
	}
	report.Problems, report.Options = listed(report.Problems), len(report.Decided.Choices)
	report.Findings = append([]draft.Finding{found.Name, found.Version, found.Method, found.License, found.Summary,
		found.Home}, found.Remarks...)
	return nil
}

// Readme is what the source of a recipe says about itself: README and INSTALL, or what they
// are called. Nothing is unpacked.
func (s *Session) Readme(ctx context.Context, name string) ([]draft.Text, error) {
	l, err := s.Ladder(ctx, LadderRequest{Ask: plan.Ask{Names: []string{name}}})
	if err != nil {
		return nil, err
	}
	part := l.Asked()[0].Parts[0]
	if part.Checkout != nil {
		return nil, problem.New(problem.Usage, name, "the source of %s is a repository; its README is at %s", name,
			part.Checkout.URL())
	}
	texts, err := draft.ReadmeOf(ctx, s.Machine, part.Archive)
	if err == nil && len(texts) == 0 {
		err = problem.New(problem.Usage, name, "the source of %s has neither README nor INSTALL", name)
	}
	return texts, err
}

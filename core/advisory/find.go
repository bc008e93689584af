package advisory

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// A Source is a database of advisories on this machine.
type Source struct {
	Name  string // for people
	Path  string // a file with an entry, a zip archive of them, or a directory of both
	Index string // the file of its index; only a cache
	Keep  bool   // the index, if it has to be made
}

// Contents is what a database has.
type Contents struct {
	Name    string `json:"name"`
	Entries int    `json:"entries"`
	Broken  int    `json:"broken,omitempty"` // files that are no entries
	Newest  string `json:"newest,omitempty"` // the latest modification of an entry
}

// Databases are open databases of advisories.
type Databases struct {
	Unreadable []string // entries that may concern a subject of Find, and could not be read

	all []*opened
}

type opened struct {
	Source
	database
	*index
}

// Open opens databases. It reads those whole that have changed since their index was made.
func Open(ctx context.Context, sources []Source) (*Databases, error) {
	d := &Databases{}
	for _, s := range sources {
		o := &opened{Source: s, database: database{s.Path}}
		var err error
		if o.index, err = openIndex(ctx, &o.database, s.Index, s.Keep); err != nil {
			d.Close()
			return nil, &Unreadable{s.Name, err}
		}
		d.all = append(d.all, o)
	}
	return d, nil
}

// Unreadable is the problem of a database that cannot be read.
type Unreadable struct {
	Name string
	Err  error
}

func (e *Unreadable) Error() string { return fmt.Sprintf("the advisories of %s: %v", e.Name, e.Err) }
func (e *Unreadable) Unwrap() error { return e.Err }

// Close closes the databases.
func (d *Databases) Close() {
	for _, o := range d.all {
		o.close()
	}
}

// Contents says what the databases have.
func (d *Databases) Contents() []Contents {
	all := []Contents{}
	for _, o := range d.all {
		all = append(all, Contents{o.Name, o.head.Entries, o.head.Broken, o.head.Newest})
	}
	return all
}

// A Hole is what one or more entries, joined by their aliases, publish.
type Hole struct {
	ID        string // a CVE number if it has one
	Aliases   []string
	Summary   string
	Severity  Score
	Published string // the earliest, as written
	Modified  string // the latest
	Links     []string
	Databases []string
	Concerns  []Concern // of the subjects, in their order

	entries []*Entry
}

// A Concern is what a hole means for a subject that it names.
type Concern struct {
	Subject *Subject
	Opinion
	Against []string // entries that say it is not affected, while others say it is
}

// Judge says what the hole means for a subject.
func (h *Hole) Judge(s *Subject, ask Ancestry) (all Opinion, against []string) {
	for _, e := range h.entries {
		o := e.judge(s, ask)
		if o.Verdict == Unaffected {
			against = append(against, e.ID)
		}
		all = all.and(o)
	}
	if all.Verdict != Vulnerable {
		against = nil
	}
	return all, against
}

// Find finds the holes that name the packages of subjects, the worst first. Concerns of a hole
// are the subjects that it names, affected or not.
func (d *Databases) Find(subjects []*Subject, ask Ancestry) ([]*Hole, error) {
	found, byKey := map[*Entry]*opened{}, map[string][]*Subject{}
	for _, s := range subjects {
		for _, key := range s.keys() {
			byKey[key] = append(byKey[key], s)
		}
	}
	for _, o := range d.all {
		err := o.entriesOf(slices.Collect(maps.Keys(byKey)), func(e *Entry) {
			if e.Withdrawn == "" && slices.ContainsFunc(e.namedBy(byKey), e.names) {
				found[e] = o
			}
		}, func(id string) { d.Unreadable = append(d.Unreadable, id) })
		if err != nil {
			return nil, &Unreadable{o.Name, err}
		}
	}
	holes, err := d.join(found)
	if err != nil {
		return nil, err
	}
	place := map[*Subject]int{}
	for i, s := range subjects {
		place[s] = i
	}
	for _, h := range holes {
		var named []*Subject
		for _, e := range h.entries {
			named = append(named, e.namedBy(byKey)...)
		}
		slices.SortFunc(named, func(a, b *Subject) int { return place[a] - place[b] })
		for _, s := range slices.Compact(named) {
			if o, against := h.Judge(s, ask); o.Verdict != Elsewhere {
				h.Concerns = append(h.Concerns, Concern{s, o, against})
			}
		}
	}
	slices.SortFunc(holes, func(a, b *Hole) int {
		return cmp.Or(cmp.Compare(b.Severity.Level.Rank(), a.Severity.Level.Rank()),
			cmp.Compare(b.Severity.Value, a.Severity.Value), cmp.Compare(a.ID, b.ID))
	})
	return holes, nil
}

// namedBy are the subjects that have a key of the entry, by the subjects of keys.
func (e *Entry) namedBy(subjects map[string][]*Subject) (all []*Subject) {
	for _, a := range e.Affected {
		all = append(all, subjects[keyName+plainName(ecosystem(a.Package.Ecosystem), a.Package.Name)]...)
		if a.Package.Purl != "" {
			all = append(all, subjects[keyPurl+plainPurl(a.Package.Purl)]...)
		}
		for _, r := range a.Ranges {
			if r.Repo != "" {
				all = append(all, subjects[keyRepo+plainURL(r.Repo)]...)
			}
		}
	}
	return all
}

func (e *Entry) names(s *Subject) bool {
	return slices.ContainsFunc(e.Affected, func(a AffectedPackage) bool { return a.names(s) })
}

// entriesOf reads the entries that have one of some keys, each once.
func (o *opened) entriesOf(keys []string, take func(*Entry), broken func(id string)) error {
	slices.Sort(keys)
	var records []record
	for _, key := range slices.Compact(keys) {
		some, err := o.find(key)
		if err != nil {
			return err
		}
		records = append(records, some...)
	}
	for i := range records {
		records[i].hash = 0
	}
	slices.SortFunc(records, func(a, b record) int {
		return cmp.Or(cmp.Compare(a.file, b.file), cmp.Compare(a.offset, b.offset))
	})
	return o.entries(o.index, slices.Compact(records), take, broken)
}

// join makes holes of entries: those that share an id are about the same.
func (d *Databases) join(found map[*Entry]*opened) ([]*Hole, error) {
	group := map[string]*Hole{}
	for _, e := range sortedEntries(found) {
		h := &Hole{entries: []*Entry{e}}
		for _, id := range e.Names() {
			if other := group[id]; other != nil && other != h {
				h.entries = append(h.entries, other.entries...)
				h.Aliases = append(h.Aliases, other.Aliases...)
				for _, also := range other.Aliases {
					group[also] = h
				}
			}
			h.Aliases = append(h.Aliases, id)
			group[id] = h
		}
	}
	var holes []*Hole
	for _, h := range group {
		if !slices.Contains(holes, h) {
			holes = append(holes, h)
		}
	}
	for _, h := range holes {
		if err := d.describe(h, found); err != nil {
			return nil, err
		}
	}
	return holes, nil
}

func sortedEntries(found map[*Entry]*opened) []*Entry {
	var all []*Entry
	for e := range found {
		all = append(all, e)
	}
	slices.SortFunc(all, func(a, b *Entry) int {
		return cmp.Or(cmp.Compare(a.ID, b.ID), cmp.Compare(a.Modified, b.Modified),
			cmp.Compare(found[a].Name, found[b].Name))
	})
	return all
}

// describe fills in a hole from its entries, and from those that only its aliases lead to: a
// distribution's entry often states no severity.
func (d *Databases) describe(h *Hole, found map[*Entry]*opened) error {
	slices.SortFunc(h.entries, func(a, b *Entry) int { return cmp.Compare(a.ID, b.ID) })
	h.entries = slices.Compact(h.entries)
	slices.SortFunc(h.Aliases, func(a, b string) int {
		return cmp.Or(cmp.Compare(btoi(!strings.HasPrefix(a, "CVE-")), btoi(!strings.HasPrefix(b, "CVE-"))),
			cmp.Compare(a, b))
	})
	h.Aliases = slices.Compact(h.Aliases)
	h.ID, h.Aliases = h.Aliases[0], h.Aliases[1:]
	h.Severity.Level = Unknown
	for _, e := range h.entries {
		h.take(e)
		if name := found[e].Name; !slices.Contains(h.Databases, name) {
			h.Databases = append(h.Databases, name)
		}
	}
	if h.Severity.Level != Unknown && h.Summary != "" {
		return nil
	}
	keys := []string{keyID + h.ID}
	for _, id := range h.Aliases {
		keys = append(keys, keyID+id)
	}
	for _, o := range d.all {
		err := o.entriesOf(keys, func(e *Entry) {
			if e.ID == h.ID || slices.Contains(h.Aliases, e.ID) {
				h.take(e)
			}
		}, func(string) {})
		if err != nil {
			return &Unreadable{o.Name, err}
		}
	}
	return nil
}

// take takes over what an entry says of the hole itself.
func (h *Hole) take(e *Entry) {
	if s := e.score(); h.Severity.Level == Unknown || s.Level != Unknown && s.Value > h.Severity.Value {
		h.Severity = s
	}
	const longest = 200
	if text := cmp.Or(e.Summary, firstSentence(e.Details)); h.Summary == "" {
		h.Summary = strings.ToValidUTF8(text[:min(longest, len(text))], "")
	}
	if e.Published != "" && (h.Published == "" || e.Published < h.Published) {
		h.Published = e.Published
	}
	h.Modified = max(h.Modified, e.Modified)
	for _, l := range e.Links {
		if strings.HasPrefix(l.URL, "https://") && !slices.Contains(h.Links, l.URL) {
			h.Links = append(h.Links, l.URL)
		}
	}
}

func firstSentence(text string) string {
	text, _, _ = strings.Cut(strings.TrimSpace(text), "\n")
	if i := strings.Index(text, ". "); i > 0 {
		text = text[:i+1]
	}
	return text
}

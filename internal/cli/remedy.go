package cli

import (
	"fmt"
	"slices"
	"strings"

	"fernladder/core/diagnose"
	"fernladder/core/draft"
	"fernladder/core/host"
	"fernladder/core/recipe"
)

// remedy is what answers something that is missing: a recipe on the shelves, or
// the operating system, or either.
type remedy struct {
	recipe string // "" for none
	sure   bool   // it is known to have what is missing; otherwise its name speaks for it
	role   recipe.Role
	rang   string        // the versions that will do, of either
	host   host.Question // with no kind where the operating system is not asked for such things
	owners []string      // its packages that have it, as far as is known
	family string
}

// wishKinds are what of a recipe answers a cause. What only has a name can be
// anything.
var wishKinds = map[diagnose.Kind][]string{
	diagnose.MissingProgram: {"program"}, diagnose.MissingHeader: {"header"}, diagnose.MissingLibrary: {"library"}, diagnose.MissingModule: {"module", "package"},
	diagnose.MissingPackage: {"package"}, diagnose.Missing: {"module", "library", "program", "package"}, diagnose.TooOld: {"module", "program", "package"},
}

// remedyOf finds out what answers a cause. There is none where the recipe, which
// can be nil, names it already.
func (s *session) remedyOf(r *recipe.Recipe, c *diagnose.Cause) (m remedy) {
	questions := c.Questions()
	if len(questions) == 0 {
		return m
	}
	m.role, m.family, m.rang = recipe.Library, s.workshop.Machine.Family, c.Range
	if questions[0].Kind == host.Program {
		m.role = recipe.Tool
	}
	m.recipe, m.sure = s.recipeFor(r, c)
	m.host, m.owners = s.hostFor(questions)
	if r != nil && says(r, questions...) {
		m.host, m.owners = host.Question{}, nil
	}
	return m
}

// says tells whether a recipe asks the operating system for one of these.
func says(r *recipe.Recipe, questions ...host.Question) bool {
	return slices.ContainsFunc(r.HostNeeds, func(n *recipe.HostNeed) bool { return slices.Contains(questions, n.Question()) })
}

// survey finds out, once, what packages offer.
func (s *session) survey() (*draft.Known, error) {
	var err error
	if s.known == nil {
		s.known, err = draft.Survey(s.shelves, s.store)
	}
	return s.known, err
}

// recipeFor finds the recipe on the shelves that answers a cause, but for those
// that are needed already.
func (s *session) recipeFor(r *recipe.Recipe, c *diagnose.Cause) (name string, sure bool) {
	packages, err := s.survey()
	if err != nil {
		return "", false
	}
	for _, wanted := range c.Names {
		for _, kind := range wishKinds[c.Kind] {
			wish := draft.Wish{Kind: kind, Name: wanted}
			if kind == "header" { // recipes do not list headers; a folder or a name tells as much
				wish.Name, _, _ = strings.Cut(strings.TrimSuffix(wanted, ".h"), "/")
			}
			provider, known, found := packages.Find(wish)
			if !found || r != nil && (provider == r.Name || slices.ContainsFunc(r.Needs, func(n *recipe.Need) bool { return slices.Contains(n.Names(), provider) })) {
				continue
			}
			if known || name == "" {
				name, sure = provider, known
			}
			if known {
				return name, sure
			}
		}
	}
	return name, sure
}

// hostFor finds the question whose answer the operating system's packages have,
// and which of them. Where nothing is known of that, it is the first.
func (s *session) hostFor(questions []host.Question) (host.Question, []string) {
	files := s.workshop.HostFiles()
	owners := files.Owners(questions)
	for _, q := range questions {
		if len(owners[q]) == 0 {
			continue
		}
		if slices.Contains(host.Kinds, q.Kind) {
			return q, owners[q]
		}
		// Nothing asks the operating system for such a thing, but for another of its package.
		if other, found := files.Of(owners[q][0]); found {
			return other, owners[q]
		}
	}
	near := files.Near(questions)
	for _, q := range questions {
		if packages := host.PackageOf(q.Name, s.workshop.Machine.Family); q.Kind == host.Program && packages != nil {
			return q, packages
		}
		if found, is := near[q]; is {
			return found.Question, found.Owners
		}
	}
	if slices.Contains(host.Kinds, questions[0].Kind) {
		return questions[0], nil
	}
	return host.Question{}, nil
}

func (m remedy) needText() string {
	if m.rang == "" {
		return fmt.Sprintf("[[need]]\nrecipe = %q\nrole   = %q", m.recipe, m.role)
	}
	return fmt.Sprintf("[[need]]\nrecipe  = %q\nversion = %q\nrole    = %q", m.recipe, m.rang, m.role)
}

func (m remedy) hostText() string {
	text := fmt.Sprintf("[[host]]\n%s = %q", m.host.Kind, m.host.Name)
	if m.rang != "" && (m.host.Kind == host.Module || m.host.Kind == host.Program) {
		text += fmt.Sprintf("\nversion = %q", m.rang)
	}
	if !slices.Contains(host.Families, m.family) {
		return text
	}
	if len(m.owners) > 0 {
		text += fmt.Sprintf("\npackages = { %s = %q }", m.family, m.owners[0])
	}
	if len(m.owners) > 1 {
		text += "   # or " + strings.Join(m.owners[1:min(4, len(m.owners))], ", ")
	}
	return text
}

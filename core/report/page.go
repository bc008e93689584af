package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"fernladder/core/picture"
	"fernladder/core/quantity"
	"fernladder/core/store"
	"fernladder/core/timeline"
)

// HTML is the report as a page that needs no other file.
func (r *Report) HTML() []byte {
	p := picture.NewPage("Fern Ladder report: " + r.About)
	p.Raw(fmt.Sprintf(`<p class="muted">Made on %s on %s by %s, of the root <code>%s</code>.</p>`+"\n",
		day(r.Made), picture.Text(r.Machine), picture.Text(r.Tool), picture.Text(r.Root)))
	r.facts(p)
	r.changes(p)
	r.holes(p)
	if len(r.Packages) > 0 {
		p.Heading("What is there")
		r.overview(p)
		p.Heading("The ladder")
		p.Draw(r.ladder().Draw())
	}
	r.timeline(p)
	if len(r.Host) > 0 {
		p.Heading("What the operating system gives")
		p.Raw("<ul>\n")
		for _, h := range r.Host {
			p.Raw("<li>" + picture.Text(h) + "</li>\n")
		}
		p.Raw("</ul>\n")
	}
	if len(r.Packages) > 0 {
		p.Heading("Licences")
		r.licences(p)
		p.Heading("Each package")
		for _, x := range r.Packages {
			r.details(p, x)
		}
	}
	return p.HTML()
}

func day(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") }

// facts are the few numbers at the top.
func (r *Report) facts(p *picture.Page) {
	size, signed, depots := int64(0), 0, 0
	for _, x := range r.Packages {
		size += x.Size
		if x.signed() {
			signed++
		}
		if x.From != "" {
			depots++
		}
	}
	counted := func(n int, one string) { // 1 package, 2 packages
		number, what, _ := strings.Cut(quantity.Count(n, one), " ")
		p.Raw("<li><b>" + number + "</b>" + what + "</li>")
	}
	fact := func(number, what string) {
		p.Raw("<li><b>" + picture.Text(number) + "</b>" + picture.Text(what) + "</li>")
	}
	p.Raw(`<ul class="facts">`)
	counted(len(r.Packages), "package")
	fact(quantity.Bytes(size), "in their trees")
	fact(fmt.Sprintf("%d of %d", signed, len(r.Packages)), "signed by their authors")
	if depots > 0 {
		fact(fmt.Sprint(depots), "taken from depots")
	}
	if r.Looked {
		counted(len(r.Holes), "published hole")
	} else {
		fact("not looked up", "published holes")
	}
	p.Raw("</ul>\n")
}

func (x Package) signed() bool {
	return len(x.Sources) > 0 && !slices.ContainsFunc(x.Sources, func(s Source) bool { return s.Signed == "" })
}

func (r *Report) changes(p *picture.Page) {
	if r.Since == nil {
		return
	}
	p.Heading("Since the last report")
	c := r.Since
	if c.Empty() {
		p.Paragraph("Nothing has changed since " + day(c.Made) + ".")
		return
	}
	var rows [][]string
	for _, x := range c.Changed {
		rows = append(rows, []string{x.Name, "changed", x.Before + " → " + x.Now, x.How})
	}
	for _, list := range []struct {
		names []string
		what  string
	}{{c.Came, "new"}, {c.Gone, "gone"}, {c.Holes, "new published hole"}, {c.Ended, "published hole ended"}} {
		for _, name := range list.names {
			rows = append(rows, []string{name, list.what, "", ""})
		}
	}
	p.TextTable("Changes since "+day(c.Made), []string{"what", "change", "from, to", "why"}, rows)
}

func (r *Report) holes(p *picture.Page) {
	if r.Unlooked != "" {
		p.Raw(`<p class="warn">Published security holes could not be looked up: ` + picture.Text(r.Unlooked) + "</p>\n")
	}
	if len(r.Unknown) > 0 {
		p.Paragraph("Not looked up, because no name elsewhere is known: " + strings.Join(r.Unknown, ", ") + ".")
	}
	if len(r.Holes) == 0 {
		return
	}
	p.Heading("Published security holes")
	var rows [][]string
	for _, h := range r.Holes {
		rows = append(rows, []string{picture.Text(h.ID), `<span class="warn">` + picture.Text(h.Severity) + "</span>",
			picture.Text(strings.Join(h.Builds, ", ")), picture.Text(h.Summary), picture.Text(h.Step)})
	}
	p.Table("The worst first", []string{"hole", "severity", "builds", "summary", "the smallest step that ends it"}, rows)
}

// words are the words for the standing of a build.
func (x Package) words() string {
	text := map[string]string{"asked": "requested", "needed": "needed to run", "beside": "beside another build",
		"used": "used to build others", "locked": "locked"}[x.Standing]
	if !x.Here {
		text += ", not built here"
	}
	return text
}

func anchor(ref store.Ref) string { return ref.Name + "-" + ref.ID }

func (r *Report) overview(p *picture.Page) {
	packages := slices.Clone(r.Packages)
	slices.SortStableFunc(packages, func(a, b Package) int { return cmp.Compare(a.Name, b.Name) })
	var rows [][]string
	for _, x := range packages {
		took, size := "", ""
		if x.Seconds > 0 {
			took = quantity.Seconds(x.Seconds)
		}
		if x.Here {
			size = quantity.Bytes(x.Size)
		}
		trend := ""
		if times := x.times(); len(times) > 1 {
			trend = p.Inline(picture.Trend(fmt.Sprintf("%d builds of %s, the last in %s", len(times), x.Name,
				quantity.Seconds(times[len(times)-1])), times))
		}
		rows = append(rows, []string{fmt.Sprintf(`<a href="#%s">%s</a>`, picture.Text(anchor(x.Ref)), picture.Text(x.Name)),
			picture.Text(x.Version), picture.Text(x.words()), picture.Text(x.License), picture.Text(x.signers()), size, took,
			trend})
	}
	p.Table(quantity.Count(len(rows), "build"), []string{"package", "version", "why", "licence", "signed by", "size",
		"build time", "trend"}, rows)
}

// times are those of successful builds, the oldest first.
func (x Package) times() (times []float64) {
	for _, e := range x.Earlier {
		if e.Failed == "" {
			times = append(times, e.Seconds)
		}
	}
	return times
}

func (x Package) sizes() (sizes []float64) {
	for _, e := range x.Earlier {
		if e.Failed == "" && e.Size > 0 {
			sizes = append(sizes, float64(e.Size))
		}
	}
	return sizes
}

// signers names who signed the source, in short.
func (x Package) signers() string {
	var names []string
	for _, s := range x.Sources {
		name, _, _ := strings.Cut(s.Signed, " (")
		if name != "" && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	if len(names) > 0 && !x.signed() {
		names = append(names, "in part")
	}
	return strings.Join(names, ", ")
}

// ladder is the ladder of the report's builds.
func (r *Report) ladder() picture.Ladder {
	l := picture.Ladder{Title: "The ladder"}
	place := map[store.Ref]int{}
	for i, x := range r.Packages {
		place[x.Ref] = i
	}
	for _, x := range r.Packages {
		n := picture.Node{Name: x.Name, Version: x.Version, Rung: x.Rung, State: picture.StateBuilt,
			Requested: x.Standing == "asked", Why: x.words()}
		if !x.Here {
			n.State = picture.StateBuild
		}
		for _, need := range x.Needs {
			if to, is := place[need.Ref]; is && r.Packages[to].Rung < x.Rung {
				n.Needs = append(n.Needs, picture.Need{To: to, Role: string(need.Role)})
			}
		}
		l.Nodes = append(l.Nodes, n)
	}
	return l
}

func (r *Report) timeline(p *picture.Page) {
	if r.Run == nil {
		return
	}
	p.Heading("The last run of builds")
	p.Draw(picture.Run(r.Run))
	head, rows := RunTable(r.Run)
	p.Raw("<details><summary>The run as a table</summary>\n")
	p.TextTable("Builds in the order of the ladder", head, rows)
	p.Raw("</details>\n")
}

// RunTable says in words what the picture of a run shows.
func RunTable(r *timeline.Run) (head []string, rows [][]string) {
	for _, b := range r.Builds {
		from, to, ran := b.Bounds()
		began, took, forecast, busy := "", "", "", 0.0
		if b.Expected > 0 {
			forecast = quantity.Seconds(b.Expected)
		}
		var stages []string
		if ran {
			began, took = quantity.Seconds(from), quantity.Seconds(to-from)
		}
		for _, s := range b.Spans {
			stages = append(stages, s.Stage+" "+quantity.Seconds(s.Seconds()))
			busy += s.CPU
		}
		outcome := b.Outcome
		if b.Because != "" {
			outcome += ": it needs " + b.Because
		}
		rows = append(rows, []string{b.Name, b.Version, outcome, began, took, forecast, quantity.Seconds(busy),
			strings.Join(stages, ", ")})
	}
	return []string{"package", "version", "outcome", "began after", "took", "forecast", "processors", "stages"}, rows
}

func (r *Report) licences(p *picture.Page) {
	by := map[string][]string{}
	for _, x := range r.Packages {
		by[x.License] = append(by[x.License], x.Name+" "+x.Version)
	}
	var rows [][]string
	for licence, names := range by {
		if licence == "" {
			licence = "not stated"
		}
		rows = append(rows, []string{licence, fmt.Sprint(len(names)), strings.Join(names, ", ")})
	}
	slices.SortFunc(rows, func(a, b []string) int { return cmp.Compare(a[0], b[0]) })
	p.TextTable("As the recipes state them", []string{"licence", "packages", "which"}, rows)
}

// details says everything about one build.
func (r *Report) details(p *picture.Page, x Package) {
	// Browsers open what a link leads into.
	p.Raw(fmt.Sprintf("<details><summary>%s %s <span class=\"muted\">%s</span></summary>\n<dl id=\"%s\">\n",
		picture.Text(x.Name), picture.Text(x.Version), picture.Text(x.Summary), picture.Text(anchor(x.Ref))))
	row := func(label string, texts ...string) {
		texts = slices.DeleteFunc(texts, func(t string) bool { return t == "" })
		if len(texts) == 0 {
			return
		}
		for i := range texts {
			texts[i] = picture.Text(texts[i])
		}
		p.Raw("<dt>" + picture.Text(label) + "</dt><dd>" + strings.Join(texts, "<br>") + "</dd>\n")
	}
	row("home", x.Home)
	row("licence", x.License)
	row("why", x.words())
	row("build id", x.ID)
	row("tree", x.Tree)
	row("recipe", x.Recipe)
	for _, s := range x.Sources {
		signed := "no signature"
		if s.Signed != "" {
			signed = "signed by " + s.Signed
		}
		row("source", s.URL, s.Digest, signed)
	}
	row("patches", x.Patches...)
	row("from", x.From)
	if x.Edited {
		row("remark", "its source was changed by hand")
	}
	row("options", strings.Join(store.Settings(x.Options), ", "))
	row("chosen", strings.Join(x.Chosen, ", "))
	row("without", strings.Join(x.Without, ", "))
	var needs []string
	for _, n := range x.Needs {
		needs = append(needs, fmt.Sprintf("%s %s (%s, %s)", n.Name, n.Version, n.Role, n.ID))
	}
	row("needs", needs...)
	row("runs with", strings.Join(x.RunsWith, ", "))
	if x.Here {
		how := []string{day(x.Built), "in " + quantity.Seconds(x.Seconds), "with " + x.Method, x.Compiler,
			"isolation: " + x.Isolated}
		row("built", strings.Join(slices.DeleteFunc(how, func(t string) bool { return t == "" }), ", "))
		row("size", fmt.Sprintf("%s, %s", quantity.Count(x.Files, "file"), quantity.Bytes(x.Size)))
	}
	row("tries", x.Tries...)
	row("remarks", x.Remarks...)
	p.Raw("</dl>\n")
	if sizes := x.sizes(); len(sizes) > 1 {
		times := x.times()
		p.Raw(fmt.Sprintf("<p>Build times, the last %s:</p>%s<p>Sizes of its tree, the last %s:</p>%s\n",
			quantity.Seconds(times[len(times)-1]),
			p.Inline(picture.Trend("build times of "+x.Name, times)), quantity.Bytes(int64(sizes[len(sizes)-1])),
			p.Inline(picture.Trend("sizes of "+x.Name, sizes))))
	}
	const few = 10
	var rows [][]string
	for _, e := range slices.Backward(x.Earlier[max(0, len(x.Earlier)-few):]) {
		outcome := "built"
		if e.Failed != "" {
			outcome = "failed in " + e.Failed
		}
		rows = append(rows, []string{day(e.Began), picture.Text(e.Version), `<span class="id">` + picture.Text(e.ID) +
			"</span>", picture.Text(outcome), quantity.Seconds(e.Seconds), quantity.Bytes(e.Size)})
	}
	if len(rows) > 0 {
		caption := "Its builds"
		if n := len(x.Earlier); n > few {
			caption = fmt.Sprintf("The last %d of its %d builds", few, n)
		}
		p.Table(caption, []string{"began", "version", "build id", "outcome", "took", "size"}, rows)
	}
	p.Raw("</details>\n")
}

package main_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// measured looks at a page as it is shown: what sticks out, and text that does not stand out.
const measured = `(() => {
  const wrong = [];
  if (document.documentElement.scrollWidth > innerWidth) wrong.push("the page is wider than the window: " +
    document.documentElement.scrollWidth);
  const colour = text => (text.match(/[\d.]+/g) || []).map(Number);
  const light = c => { const l = c.slice(0, 3).map(v => { v /= 255; return v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4 });
    return 0.2126 * l[0] + 0.7152 * l[1] + 0.0722 * l[2] };
  const behind = e => { for (; e; e = e.parentElement) { const c = colour(getComputedStyle(e).backgroundColor);
    if (c.length == 3 || c[3] > 0) return c } return [255, 255, 255] };
  for (const e of document.querySelectorAll("h1,h2,p,a,li,b,th,td,dt,dd,summary,caption,span,code")) {
    if (!e.textContent.trim() || !e.getClientRects().length) continue;
    const a = light(colour(getComputedStyle(e).color)), b = light(behind(e));
    const ratio = (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
    if (ratio < 4.5) wrong.push("contrast " + ratio.toFixed(2) + " of " + e.tagName + " " + e.textContent.slice(0, 40));
  }
  for (const svg of document.querySelectorAll("svg")) {
    const box = svg.viewBox.baseVal;
    for (const text of svg.querySelectorAll("text")) { const b = text.getBBox();
      if (b.x < -1 || b.x + b.width > box.width + 1) wrong.push("cut off: " + text.textContent) }
  }
  return wrong;
})()`

// clicked follows the links of the page, each of which has to show what it leads to, and then opens
// everything that can be opened.
const clicked = `(async () => {
  const wrong = [];
  for (const a of document.querySelectorAll("a[href]")) {
    if (!a.getAttribute("href").startsWith("#")) { wrong.push("leads away: " + a.href); continue }
    a.click(); await new Promise(r => setTimeout(r, 20));
    const to = document.getElementById(decodeURIComponent(location.hash.slice(1)));
    if (!to || !to.getClientRects().length) wrong.push("leads nowhere: " + a.href);
  }
  for (const d of document.querySelectorAll("details")) d.open = false;
  for (const s of document.querySelectorAll("summary")) { s.click(); await new Promise(r => setTimeout(r));
    if (!s.parentElement.open) wrong.push("does not open: " + s.textContent) }
  return wrong;
})()`

// The pages need nothing from elsewhere, work in a browser, and can be read in every size and in
// both colour schemes.
func TestPagesInABrowser(t *testing.T) {
	long(t)
	program, err := exec.LookPath("chromium")
	require.NoError(t, err, "make setup installs it")
	w, _ := newGarden(t)
	w.must("install", "glasshouse")
	w.must("report", "--to", "page")
	w.must("remove", "glasshouse")
	w.must("report", "--to", "less")
	w.must("plan", "glasshouse", "--draw", "plan.html")
	w.must("history", "--draw", "run.html")
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(program), chromedp.NoSandbox)
	allocator, end := chromedp.NewExecAllocator(context.Background(), options...)
	defer end()
	browser, end := chromedp.NewContext(allocator)
	defer end()
	require.NoError(t, chromedp.Do(browser)) // it starts
	for _, page := range []string{"page/index.html", "less/index.html", "plan.html", "run.html"} {
		for _, size := range [][2]int64{{1280, 800}, {390, 844}} {
			for _, scheme := range []string{"light", "dark"} {
				t.Run(fmt.Sprintf("%s %d %s", page, size[0], scheme), func(t *testing.T) {
					lookAt(t, browser, w.path(page), size, scheme)
				})
			}
		}
	}
}

// lookAt shows a page in a tab of its own. With PICTURES=DIR, it keeps a picture.
func lookAt(t *testing.T, browser context.Context, file string, size [2]int64, scheme string) {
	tab, end := chromedp.NewContext(browser)
	defer end()
	var told []string
	require.NoError(t, chromedp.Listen(tab, func(e any) {
		switch e := e.(type) {
		case *network.EventRequestWillBeSent:
			if !strings.HasPrefix(e.Request.URL, "file://"+file) && !strings.HasPrefix(e.Request.URL, "data:") {
				told = append(told, "request to "+e.Request.URL)
			}
		case *runtime.EventExceptionThrown:
			told = append(told, e.ExceptionDetails.Text)
		case *runtime.EventConsoleAPICalled:
			told = append(told, fmt.Sprint("console: ", e.Type))
		case *log.EventEntryAdded:
			told = append(told, "log: "+e.Entry.Text)
		}
	}))
	_, err := chromedp.Call(tab, network.Enable, network.EnableParams{})
	require.NoError(t, err)
	_, err = chromedp.Call(tab, log.Enable, cdp.Empty{})
	require.NoError(t, err)
	_, err = chromedp.Call(tab, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
		Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}})
	require.NoError(t, err)
	require.NoError(t, chromedp.Do(tab, chromedp.EmulateViewport(size[0], size[1]), chromedp.Navigate("file://"+file)))
	shot, err := chromedp.Run(tab, chromedp.FullScreenshot(90))
	require.NoError(t, err)
	look := func(what, script string) {
		wrong, err := chromedp.Run(tab, chromedp.Evaluate[[]string](script, chromedp.EvalAwaitPromise))
		require.NoError(t, err)
		assert.Empty(t, wrong, what)
	}
	look("the colour scheme", fmt.Sprintf(`getComputedStyle(document.body).backgroundColor == "rgb(255, 255, 255)" == %t ? [] : `+
		`["the ground is " + getComputedStyle(document.body).backgroundColor]`, scheme == "light"))
	look("as it is loaded", measured)
	look("what can be clicked", clicked)
	look("with everything opened", measured)
	assert.Empty(t, told)
	if dir := os.Getenv("PICTURES"); dir != "" {
		name := fmt.Sprintf("%s-%d-%s.jpg", strings.ReplaceAll(filepath.Base(filepath.Dir(file))+"-"+filepath.Base(file), ".", "-"), size[0], scheme)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), shot, 0o644))
	}
}

// Names of others are text on a page, never markup.
func TestReportOfHostileTexts(t *testing.T) {
	w := newWorld(t)
	hostile := `<script>alert(1)</script><img src=x onerror=alert(2)> "'&`
	w.pkg("fern", script("place", place("x")))
	w.edit("recipes/fern/recipe.toml", `"A test"`, fmt.Sprintf("%q", hostile))
	w.must("install", "fern")
	w.must("report", "--to", "page")
	page := w.read("page/index.html")
	assert.NotContains(t, page, "<script")
	assert.NotContains(t, page, "<img")
	assert.Contains(t, page, "&lt;script&gt;")
	var report struct{ Packages []struct{ Summary string } }
	require.NoError(t, json.Unmarshal([]byte(w.read("page/report.json")), &report))
	assert.Equal(t, hostile, report.Packages[0].Summary)

	w.write("mine/index.html", "my page")
	w.fails(2, []string{"report", "--to", "mine"}, "is not a report; choose another directory")
	assert.Equal(t, "my page", w.read("mine/index.html"))
	w.write("page/report.json", "{}")
	w.fails(2, []string{"report", "--to", "page"}, "is not a report that this program can compare with")
	require.NoError(t, os.Remove(w.path("page/report.json")))
	require.NoError(t, syscall.Mkfifo(w.path("page/report.json"), 0o644))
	w.fails(1, []string{"report", "--to", "page"}, "report.json: it is not a regular file")
	require.NoError(t, os.RemoveAll(w.path("page")))
	require.NoError(t, os.MkdirAll(w.path("page"), 0o755))
	require.NoError(t, os.Symlink(w.path("mine/index.html"), w.path("page/index.html")))
	w.write("page/report.json", `{"format": 1}`)
	w.must("report", "--to", "page")
	assert.Equal(t, "my page", w.read("mine/index.html"), "a link is replaced, not followed")
	require.NoError(t, os.Remove(w.path("page/index.html"))) // as a program killed between the two leaves it
	assert.Contains(t, w.must("report", "--to", "page").stdout, "Nothing has changed")
	w.fails(2, []string{"report"}, "report needs the directory that it is written to: --to DIR")
}

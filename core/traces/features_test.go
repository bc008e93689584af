package traces

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Each kind of source reports in its own way what it is built with.
func TestRead(t *testing.T) {
	for _, c := range []struct {
		name, log string
		off       []string
		want      []string
	}{
		{"a summary after look-ups", `checking for moss >= 2... no
checking for rake in -lrake... yes
· configure --prefix=/x
  plots ......... yes (frond 1.2)
  Moss:           no
  Frost alarm:    no (kelvin not found)
  Night shift:    no      (--enable-night)
  debug: no
  prefix: /opt`, []string{"night"}, []string{"+plots frond 1.2", "-Moss <moss>", "-Frost alarm <kelvin>",
			"=Night shift --enable-night"}},
		{"no summary",
			"checking for sunrise... no\nchecking for fern >= 1.0... yes\nchecking for MOSS... no\nchecking for soil_dig in " +
				"-lsoil... no\n", []string{"with-soil", "soil"}, []string{"+fern", "-MOSS <MOSS>", "=soil <soil>"}},
		{"a library without one of its functions",
			"checking for dig in -lsoil... no\nchecking for rake in -lsoil... yes\nchecking for dig in -lsoil... no\n" +
				"checking for grow in -lmoss... no\n", nil, []string{"+soil", "-moss <moss>"}},
		{"CMake", `-- Found Fern: /usr/lib/libfern.so (found version "1.2")
-- Could NOT find Moss (missing: MOSS_LIBRARY)
-- The following features have been enabled:

 * Plots, draws plans

-- The following OPTIONAL packages have not been found:

 * Moss (required version >= 2), grows on it

-- Configuring done`, nil, []string{"+Plots draws plans", "-Moss required version >= 2 grows on it <Moss>"}},
		{"CMake, without a list",
			"-- Found Fern: /usr/lib/libfern.so (found suitable version \"1.2\", minimum required is \"1\")\n-- Could NOT " +
				"find Moss (missing: X)\n", nil, []string{"+Fern 1.2", "-Moss <Moss>"}},
		{"Meson", `Run-time dependency fern found: YES 1.2
Run-time dependency moss found: NO (tried pkgconfig)
fern 1.0

  Parts
    plots   : YES
    moss    : NO

  User defined options
    frost   : disabled
`, nil, []string{"+plots", "-moss <moss>"}},
		{"a table",
			"fern configured\n\nplots support             yes\nmoss support              no\nthreads                   " +
				"pthreads\n", nil, []string{"+plots support", "-moss support"}},
		{"nothing that it says", "all is well\n", nil, nil},
	} {
		var got []string
		for _, f := range Features(c.log, c.off, "· ") {
			mark := map[bool]string{true: "+", false: "-"}[f.On]
			if f.Asked {
				mark = "="
			}
			text := mark + f.Name + " " + f.Says
			if f.Lacks != "" {
				text = strings.TrimSpace(text) + fmt.Sprintf(" <%s>", f.Lacks)
			}
			got = append(got, strings.TrimSpace(text))
		}
		assert.Equal(t, c.want, got, c.name)
	}
}

// Any output of a source is read quickly, and the result is bounded.
func FuzzRead(f *testing.F) {
	f.Add("a: no\nb ... yes (c)\n-- The following features have been disabled:\n * x, y\n")
	f.Add("checking for x in -ly... no\nUser defined options\n z : off\n")
	f.Fuzz(func(t *testing.T, log string) {
		all := Features(log, []string{"a"}, "· ")
		assert.LessOrEqual(t, len(all), 400)
		for _, f := range all {
			assert.NotEmpty(t, f.Name)
			assert.False(t, f.On && (f.Asked || f.Lacks != ""), log)
		}
	})
}

package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/creack/pty"
)

// options opens the screen of a package with 300 options on a shelf of 1,000 recipes, and
// presses keys on it, compared with the commands that print the same.
func (w *work) options() []row {
	const number = 1_000
	dir := w.path("options")
	prepare := func() {
		if _, err := os.Stat(dir + "/recipes/fern"); err == nil {
			return
		}
		w.shelf("options", number)
		recipe, needs := fmt.Sprintf("format = 1\n[package]\nname = \"fern\"\nsummary = \"A plant\"\n[[release]]\nversion "+
			"= \"1.0\"\narchive = \"https://vale-glasshouse.example/fern.tar.gz\"\nsha256 = \"%064x\"\n", 7), ""
		for i := range 300 {
			recipe += fmt.Sprintf("[option.o%d]\nabout = \"Feature %d, in some words\"\ngroup = \"Bed %d\"\ndefault = %t\non "+
				"= [\"--enable-o%d\"]\n", i, i, i%6, i%3 == 0, i)
			if i%10 == 0 {
				needs += fmt.Sprintf("[[need]]\nrecipe = \"p%05d\"\nrole = \"library\"\nwhen = \"o%d\"\n", number-1-i, i)
			}
		}
		w.write("options/recipes/fern/recipe.toml", recipe+needs+"[build]\nmethod = \"configure\"\n")
	}
	var open *screen
	return []row{{
		name: "options, 300 of them: the first frame", anchor: "options --plain", aim: "100 ms",
		ours: func() cost {
			prepare()
			began := time.Now()
			s := w.screen(dir)
			s.until("Feature 12,")
			took := time.Since(began)
			s.close()
			return cost{wall: took}
		},
		theirs: func() cost { return timed(dir, w.program, "options", "fern", "--plain") },
	}, {
		name: "options, a key to what it means", anchor: "plan -o OPTION=…", aim: "50 ms",
		ours: func() cost {
			prepare()
			if open == nil {
				open = w.screen(dir)
				open.until("It means")
				time.Sleep(time.Second) // the operating system is asked meanwhile
			}
			open.press(" ")
			began := time.Now()
			open.until("to build")
			took := time.Since(began)
			time.Sleep(200 * time.Millisecond)
			return cost{wall: took}
		},
		theirs: func() cost { return timed(dir, w.program, "plan", "fern", "-o", "o0=off") },
	}}
}

// A screen is the program on a terminal.
type screen struct {
	file *os.File
	run  *exec.Cmd
	text bytes.Buffer
}

func (w *work) screen(dir string) *screen {
	run := exec.Command(w.program, "options", "fern")
	run.Dir, run.Env = dir, append(os.Environ(), "TERM=xterm-256color")
	file, err := pty.StartWithSize(run, &pty.Winsize{Rows: 24, Cols: 80})
	must(err)
	return &screen{file: file, run: run}
}

// until reads the output until a text appears.
func (s *screen) until(text string) {
	buffer := make([]byte, 64<<10)
	for !strings.Contains(s.text.String(), text) {
		n, err := s.file.Read(buffer)
		must(err)
		s.text.Write(buffer[:n])
	}
}

// press presses keys, and discards earlier output.
func (s *screen) press(keys string) {
	s.text.Reset()
	_, err := s.file.WriteString(keys)
	must(err)
}

func (s *screen) close() {
	s.run.Process.Kill()
	s.run.Wait()
	s.file.Close()
}

package main_test

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"fernladder/core/signature"
	"fernladder/demo/garden"
)

// The scripts in testdata drive the program as a person would. Besides the commands of
// testscript there are
//
//	package NAME            makes an archive of src/NAME and a recipe that begins with it and ends with NAME.toml
//	status N COMMAND …      runs a command that ends with this status
//	sitekey NAME            makes an SSH key, NAME and NAME.pub
//	commit VARIABLE REPOSITORY [KEY]   commits all files, signed by an SSH key, and sets a variable to the commit
//	settings COMMIT         writes settings with the repository shelf at a commit, and the key site.pub
//	id VARIABLE COMMAND …   runs a command, and sets a variable to the first build id that it prints
func TestScripts(t *testing.T) {
	t.Parallel()
	testscript.Run(t, testscript.Params{
		Dir: "testdata",
		Setup: func(e *testscript.Env) error {
			e.Setenv("HOME", e.WorkDir)
			e.Setenv("PATH", filepath.Dir(program)+":"+os.Getenv("PATH"))
			settings := "root = \"root\"\nshelves = [\"recipes\"]\n"
			if _, err := os.Stat(e.WorkDir + "/fernladder.toml"); err == nil {
				return nil
			}
			return os.WriteFile(e.WorkDir+"/fernladder.toml", []byte(settings), 0o644)
		},
		Condition: func(name string) (bool, error) {
			switch name {
			case "root":
				return os.Geteuid() == 0, nil
			case "long": // only make check runs it: [!long] skip
				return !testing.Short(), nil
			}
			return false, fmt.Errorf("there is no condition %s", name)
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"package": makePackage, "status": wantStatus, "sitekey": makeSiteKey, "commit": commitAll,
			"settings": shelfSettings, "id": wantID},
	})
}

func makePackage(ts *testscript.TestScript, _ bool, args []string) {
	name := args[0]
	ts.Check(os.MkdirAll(ts.MkAbs("archives"), 0o755))
	ts.Check(os.MkdirAll(ts.MkAbs("src/"+name), 0o755))
	scripts, _ := filepath.Glob(ts.MkAbs("src/" + name + "/configure"))
	for _, script := range scripts {
		ts.Check(os.Chmod(script, 0o755))
	}
	archive := ts.MkAbs("archives/" + name + "-1.0.tar.gz")
	out, err := exec.Command("tar", "-C", ts.MkAbs("src"), "-czf", archive, name).CombinedOutput()
	if err != nil {
		ts.Fatalf("%s", out)
	}
	sum := sha256.Sum256([]byte(ts.ReadFile(archive)))
	recipe := ts.MkAbs("recipes/" + name + "/recipe.toml")
	ts.Check(os.MkdirAll(filepath.Dir(recipe), 0o755))
	head := "format = 1\n[package]\nname = \"" + name +
		"\"\nsummary = \"Grows\"\n[[release]]\nversion = \"1.0\"\narchive = \"file://" + archive + "\"\nsha256 = \"" +
		hex.EncodeToString(sum[:]) + "\"\n"
	ts.Check(os.WriteFile(recipe, []byte(head+ts.ReadFile(name+".toml")), 0o644))
}

func makeSiteKey(ts *testscript.TestScript, _ bool, args []string) {
	ts.Check(garden.WriteSiteKey(ts.MkAbs(args[0])))
}

func commitAll(ts *testscript.TestScript, _ bool, args []string) {
	dir := ts.MkAbs(args[1])
	git := func(stdin string, words ...string) string {
		c := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=Vale", "-c", "user.email=growers@vale.example"},
			words...)...)
		c.Stdin = strings.NewReader(stdin)
		out, err := c.Output()
		ts.Check(err)
		return strings.TrimSpace(string(out))
	}
	git("", "init", "-q", "-b", "main")
	git("", "add", "-A")
	git("", "commit", "-q", "-m", "Change")
	if len(args) > 2 {
		text := git("", "cat-file", "commit", "HEAD") + "\n"
		signer, err := signature.Signing{Namespace: signature.GitNamespace, Now: time.Now}.Open(ts.MkAbs(args[2]))
		ts.Check(err)
		made, err := signer.Armored([]byte(text))
		ts.Check(err)
		header, message, _ := strings.Cut(text, "\n\n")
		signed := header + "\ngpgsig " + strings.ReplaceAll(strings.TrimSpace(string(made)), "\n", "\n ") + "\n\n" + message
		git("", "reset", "-q", "--soft", git(signed, "hash-object", "-t", "commit", "-w", "--stdin"))
	}
	ts.Setenv(args[0], git("", "rev-parse", "HEAD"))
}

func shelfSettings(ts *testscript.TestScript, _ bool, args []string) {
	dir := ts.MkAbs(".")
	ts.Check(os.WriteFile(ts.MkAbs("fernladder.toml"), []byte(fmt.Sprintf("root = \"root\"\nlocal_repositories = [%q]\n"+
		"[[remote_shelf]]\ngit = \"file://%s/shelf\"\ncommit = %q\nkeys = [\"site.pub\"]\n", dir, dir, args[0])), 0o644))
}

func wantStatus(ts *testscript.TestScript, _ bool, args []string) {
	err := ts.Exec(args[1], args[2:]...)
	status := 0
	if exit := new(exec.ExitError); errors.As(err, &exit) {
		status = exit.ExitCode()
	}
	if args[0] != strconv.Itoa(status) {
		ts.Fatalf("it ended with status %d, not %s", status, args[0])
	}
}

var anID = regexp.MustCompile(`\b[0-9a-f]{12}\b`)

func wantID(ts *testscript.TestScript, _ bool, args []string) {
	ts.Check(ts.Exec(args[1], args[2:]...))
	id := anID.FindString(ts.ReadFile("stdout"))
	if id == "" {
		ts.Fatalf("no build id is in what was printed")
	}
	ts.Setenv(args[0], id)
}

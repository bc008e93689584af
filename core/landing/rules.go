package landing

import (
	"encoding/hex"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"fernladder/core/store"
)

// Rules are people's decisions about the landing. Decisions about names apply when a state is
// made, and not when one is restored.
type Rules struct {
	Names  []Name   // of single files; the first that fits counts
	Before []string // packages whose programs may hide the operating system's, or "*"

	Trusted []string `json:",omitempty"` // packages that may have any file on the landing; see Harmless

	System `json:"-"` // the part that comes first

	Shared string        `json:"-"` // a directory that others use too, in which all is linked besides; or ""
	Number int           `json:"-"` // of the states that stay, the newest
	Age    time.Duration `json:"-"` // a younger state stays, too
}

// A Name is a decision about one file of a package. Exactly one of Off, As and First is set.
type Name struct {
	Package, File string
	Off           bool   `json:",omitempty"` // it is not linked
	As            string `json:",omitempty"` // it is linked under this name instead
	First         bool   `json:",omitempty"` // it is linked, and the same file of others is not
}

// find returns the decision about a file, or nil.
func (r Rules) find(name, file string) *Name {
	for i := range r.Names {
		if r.Names[i].Package == name && r.Names[i].File == file {
			return &r.Names[i]
		}
	}
	return nil
}

// lets reports whether a file of a package may have a name on the landing. A landing that only
// the environment of its users leads to has all other files, too, outside of share, which
// XDG_DATA_DIRS names.
func (r Rules) lets(pkg, name string) bool {
	return slices.Contains(r.Trusted, pkg) || Harmless(pkg, name) ||
		r.Shared == "" && !strings.HasPrefix(name, "share/") ||
		slices.ContainsFunc(r.Names, func(n Name) bool { return n.Package == pkg && n.As == name })
}

// winner is the package that should have a file, by decision, or "".
func (r Rules) winner(file string) string {
	for _, n := range r.Names {
		if n.File == file && n.First && *r.find(n.Package, file) == n { // nothing later was decided
			return n.Package
		}
	}
	return ""
}

// before reports whether programs of a package may precede those of the operating system.
func (r Rules) before(receipt *store.Receipt) bool {
	return receipt.BeforeSystem || slices.Contains(r.Before, "*") || slices.Contains(r.Before, receipt.Name)
}

// digest identifies the rules by which a state with these members is made: those of the
// settings, and those of the receipts.
func (r Rules) digest(parts []part) string {
	var own [][]store.Beside
	var before []bool
	for _, p := range parts {
		own, before = append(own, p.receipt.Beside), append(before, p.receipt.BeforeSystem)
	}
	data, err := json.Marshal([]any{arrangement, r, r.Shared != "", own, before})
	if err != nil {
		panic(err) // there is nothing in it that has no JSON form
	}
	sum := blake3.Sum256(data)
	return store.ShortID(hex.EncodeToString(sum[:]))
}

// arrangement is raised whenever the same members and rules give other links.
const arrangement = 4

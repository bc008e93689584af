package inspect

import (
	"debug/elf"
	"os"
)

// Symbols are the dynamic symbols of a program or library.
type Symbols struct {
	Wants []string // it asks these of others, without a version
	Has   []string // for others
	Opens bool     // it opens libraries while it runs (dlopen(3))
}

// ReadSymbols reads the symbols of a program or library; of any other file, none. The file may be
// hostile.
func ReadSymbols(file *os.File) (all Symbols) {
	f := openELF(file)
	if f == nil {
		return all
	}
	defer func() { // the reader of damaged tables has had its mistakes
		if recover() != nil {
			all = Symbols{}
		}
	}()
	symbols, _ := f.DynamicSymbols()
	for _, s := range symbols {
		switch bind := elf.ST_BIND(s.Info); {
		case s.Section == elf.SHN_UNDEF && s.Name == "dlopen":
			all.Opens = true
		case s.Section == elf.SHN_UNDEF && bind == elf.STB_GLOBAL && s.Version == "":
			all.Wants = append(all.Wants, s.Name)
		case s.Section != elf.SHN_UNDEF && bind != elf.STB_LOCAL:
			all.Has = append(all.Has, s.Name)
		}
	}
	return all
}

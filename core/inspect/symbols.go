package inspect

import (
	"debug/elf"
	"os"
)

// Symbols are the names that a library asks of others, without a version, and those that it
// has for others. ok is false for any other file. The file may be hostile.
func Symbols(file *os.File) (wants, has []string, ok bool) {
	f := openELF(file)
	if f == nil {
		return nil, nil, false
	}
	defer func() { // the reader of damaged tables has had its mistakes
		if recover() != nil {
			wants, has, ok = nil, nil, false
		}
	}()
	symbols, err := f.DynamicSymbols()
	for _, s := range symbols {
		switch bind := elf.ST_BIND(s.Info); {
		case s.Section == elf.SHN_UNDEF && bind == elf.STB_GLOBAL && s.Version == "":
			wants = append(wants, s.Name)
		case s.Section != elf.SHN_UNDEF && bind != elf.STB_LOCAL:
			has = append(has, s.Name)
		}
	}
	return wants, has, err == nil
}

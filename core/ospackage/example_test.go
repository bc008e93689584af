package ospackage_test

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"fernladder/core/ospackage"
	"fernladder/core/version"
)

// Versions that dpkg and rpm order as we do.
func ExampleDebVersion() {
	for _, text := range []string{"1.6-rc1", "1.6", "1.6b", "25.0.7+108.gabc1234"} {
		v := version.MustParse(text)
		fmt.Println(text, ospackage.DebVersion(v), ospackage.RPMVersion(v))
	}
	// Output:
	// 1.6-rc1 1.6~rc1 1.6~rc1
	// 1.6 1.6 1.6
	// 1.6b 1.6b 1.6b
	// 25.0.7+108.gabc1234 25.0.7+108.gabc1234 25.0.7^108.gabc1234
}

// A package with one file, written and read again.
func ExamplePackage_WriteDeb() {
	p := &ospackage.Package{Name: "vale-fern", Version: "1.0", Release: "1", Summary: "Grows",
		Maintainer: "Vale Growers <growers@vale-glasshouse.example>", Time: time.Unix(1774008000, 0)}
	p.Files = []ospackage.File{{Path: "/usr/share/fern", Mode: 0o644, Size: 5, Open: func() (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader("leaf\n")), nil
	}}}
	file, err := os.CreateTemp("", "*.deb")
	if err != nil {
		fmt.Println(err)
	}
	defer os.Remove(file.Name())
	if err := p.WriteDeb(file, os.TempDir()); err != nil {
		fmt.Println(err)
	}
	file.Seek(0, io.SeekStart)
	control, err := ospackage.ReadDeb(file)
	_, fields := ospackage.Fields(control)
	fmt.Println(fields["Package"], fields["Version"], fields["Architecture"], err)
	// Output: vale-fern 1.0-1 all <nil>
}

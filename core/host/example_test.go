package host_test

import (
	"fmt"

	"fernladder/core/host"
)

func ExampleLacking() {
	findings := []host.Finding{
		{Need: host.Need{Question: host.Question{Kind: host.Program, Name: "make"}}, State: host.There},
		{Need: host.Need{Question: host.Question{Kind: host.Header, Name: "leaf.h"}, Packages: []string{"leaf-devel"},
			By: []string{"mistplan"}}, State: host.Absent},
	}
	missing := host.Lacking(findings, nil, host.Machine{Family: "debian"})
	line, _ := missing.InstallLine()
	fmt.Println(len(missing.Needs), line)
	// Output: 1 apt-get install leaf-devel
}

package pack

import (
	"fmt"
	"slices"
	"strings"

	"fernladder/core/ospackage"
	"fernladder/core/recipe"
	"fernladder/core/store"
	"fernladder/core/subprocess"
)

// profile adds the variables that builds want for their users, as a file for login shells. A
// variable that other programs may obey is only set if the settings trust the package.
func (p *packing) profile(o *ospackage.Package, named []*store.Receipt) {
	var names []string
	values := map[string][]string{}
	program := p.rules().Program
	for _, r := range named {
		for _, v := range r.Env {
			if !recipe.MaySet(r.Name, v.Name, program) && !slices.Contains(p.m.Settings.TrustedEnv, r.Name) {
				continue
			}
			if values[v.Name] == nil {
				names = append(names, v.Name)
			}
			if values[v.Name] == nil || v.List() && !slices.Contains(values[v.Name], v.Value) {
				values[v.Name] = append(values[v.Name], v.Value)
			}
		}
	}
	if len(names) == 0 {
		return
	}
	slices.Sort(names)
	text := "# What " + o.Name + " sets in the environment of its users.\n"
	for _, name := range names {
		value := subprocess.Quoted(strings.Join(values[name], ":"))
		if (store.Variable{Name: name}).List() {
			value += fmt.Sprintf("${%s:+:$%[1]s}", name)
		}
		text += fmt.Sprintf("%s=%s\nexport %[1]s\n", name, value)
	}
	file := ospackage.Holding("/etc/profile.d/"+o.Name+".sh", []byte(text))
	file.Config = true
	o.Files = append(o.Files, file)
}

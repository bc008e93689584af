package main

import (
	"bytes"
	"fmt"
	"os/exec"
	"slices"
	"strings"
)

const (
	layersBegin = "<!-- Made by `make docs` from the imports. -->\n```\n"
	layersEnd   = "```\n"
)

// layersPage writes the layers of the core into a page: the packages on a line import only
// packages of lines below.
func layersPage(page []byte) (string, error) {
	before, rest, begins := bytes.Cut(page, []byte(layersBegin))
	_, after, ends := bytes.Cut(rest, []byte(layersEnd))
	if !begins || !ends {
		return "", fmt.Errorf("inside.md has no place for the layers: %q and %q", layersBegin, layersEnd)
	}
	const format = `{{if .GoFiles}}{{.ImportPath}} {{join .Imports " "}}{{end}}`
	list, err := exec.Command("go", "list", "-f", format, "./core/...").Output()
	if err != nil {
		return "", fmt.Errorf("go list: %w", err)
	}
	imports := map[string][]string{}
	for line := range strings.Lines(string(list)) {
		if words := strings.Fields(line); len(words) > 0 {
			imports[words[0]] = words[1:]
		}
	}
	var layers [][]string
	var layer func(name string) int
	layer = func(name string) int {
		at := 0
		for _, other := range imports[name] {
			if imports[other] != nil {
				at = max(at, layer(other)+1)
			}
		}
		return at
	}
	for name := range imports {
		at := layer(name)
		for len(layers) <= at {
			layers = append(layers, nil)
		}
		layers[at] = append(layers[at], strings.TrimPrefix(name, "fernladder/core/"))
	}
	var text strings.Builder
	for i, names := range slices.Backward(layers) {
		slices.Sort(names)
		fmt.Fprintf(&text, "%2d  %s\n", i, strings.Join(names, "  "))
	}
	return string(before) + layersBegin + text.String() + layersEnd + string(after), nil
}

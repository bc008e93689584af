package recipe

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/tomlfile"
)

// WordAmong returns a reader for a key that takes one of a few words.
func WordAmong[T ~string](key string, words ...T) func(string) (T, error) {
	return func(text string) (T, error) {
		if slices.Contains(words, T(text)) {
			return T(text), nil
		}
		names := make([]string, len(words))
		for i, w := range words {
			names[i] = string(w)
		}
		advice := "it can be: " + strings.Join(names, ", ")
		if near, found := tomlfile.Nearest(text, names); found {
			advice = fmt.Sprintf("did you mean %q?", near)
		}
		return "", &tomlfile.At{Advice: advice, Err: fmt.Errorf("%s cannot be %q", key, text)}
	}
}

var (
	namePattern        = pattern.New(`^[a-z0-9][a-z0-9+._-]*$`)
	optionPattern      = pattern.New(`^[a-z][a-z0-9_-]*$`)
	wordPattern        = pattern.New(`^[A-Za-z0-9][A-Za-z0-9._+-]*$`)
	environmentPattern = pattern.New(`^[A-Za-z_][A-Za-z0-9_]*$`)
	schemePattern      = pattern.New(`^(https?|file)://[^\s]+$`)
	repositoryPattern  = pattern.New(`^(https?|ssh|git|svn|svn\+ssh|file)://[^\s]+$`)
	refPattern         = pattern.New(`^[A-Za-z0-9][A-Za-z0-9._/+-]*$`)
	plainNamePattern   = pattern.New(`^[\pL\pN_](?:[\pL\pN\pM ._+-]*[\pL\pN\pM._+-])?$`)
	systemNamePattern  = pattern.New(`^[A-Za-z0-9_][A-Za-z0-9._+/-]*$`)
	pythonPattern      = pattern.New(`^[A-Za-z_]\w*(?:\.\w+)*$`)
	perlPattern        = pattern.New(`^[A-Za-z_]\w*(?:::\w+)*$`)
	accountPattern     = pattern.New(`^[a-z_][a-z0-9_.-]*\$?$`) // useradd(8)
	categoryPattern    = pattern.New(`^[A-Za-z][A-Za-z0-9-]*$`)
)

// longestName keeps NAME-VERSION-ID below the 255 bytes of a file name.
const longestName = 100

// CheckName returns an error if name cannot be a package's name.
func CheckName(name string) error {
	if !namePattern.MatchString(name) || len(name) > longestName {
		return fmt.Errorf("%q cannot be a package's name: names have lower-case letters, digits and + . _ -, and begin "+
			"with a letter or digit", name)
	}
	return nil
}

func CheckOptionName(name string) error {
	if !optionPattern.MatchString(name) {
		return fmt.Errorf("%q cannot be an option's name: names have lower-case letters, digits, - and _, and begin with "+
			"a letter", name)
	}
	if slices.Contains([]string{"version", "arch", "host", "and", "or", "not", "on", "off", "true", "false"}, name) {
		return fmt.Errorf("an option cannot be called %q, which means something else in conditions", name)
	}
	return nil
}

// CheckPresetName returns an error if name cannot be a preset's name.
func CheckPresetName(name string) error {
	if !optionPattern.MatchString(name) || len(name) > longestName {
		return fmt.Errorf("%q cannot be a preset's name: names have lower-case letters, digits, - and _, and begin with a "+
			"letter", name)
	}
	return nil
}

// CheckWord returns an error if an option cannot have a value of this name.
func CheckWord(word string) error {
	if !wordPattern.MatchString(word) {
		return fmt.Errorf("%q cannot be an option's value: values have letters, digits and . _ + -", word)
	}
	return nil
}

// CheckEnvironmentName returns an error if name cannot be that of an environment variable.
func CheckEnvironmentName(name string) error {
	if !environmentPattern.MatchString(name) {
		return fmt.Errorf("%q cannot be the name of an environment variable", name)
	}
	if strings.HasPrefix(name, "FL_") {
		return fmt.Errorf("%q: names that begin with FL_ are Fern Ladder's own", name)
	}
	return nil
}

func checkPattern(pattern string) error {
	_, err := regexp.Compile(pattern)
	return err
}

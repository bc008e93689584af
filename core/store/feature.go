package store

import "slices"

// A Feature is a part of a package that its source, when configured, reported as on or off.
type Feature struct {
	Name  string `json:"name"`
	On    bool   `json:"on"`
	Says  string `json:"says,omitempty"`  // an addition of the source, such as a version
	Lacks string `json:"lacks,omitempty"` // look-ups that found nothing
	Asked bool   `json:"asked,omitempty"` // an argument of the build turned it off
}

// Missed reports whether the feature is off and no argument turned it off.
func (f Feature) Missed() bool { return !f.On && !f.Asked }

// Missed returns the features that are off and that no argument turned off.
func Missed(all []Feature) []Feature {
	return slices.DeleteFunc(slices.Clone(all), func(f Feature) bool { return !f.Missed() })
}

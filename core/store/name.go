package store

import (
	"encoding/hex"
	"fmt"
	"strings"
	"unicode/utf8"
)

// A Name is a path, which need not be valid text, in JSON; not as a key of a map, which
// encoding/json writes unchanged.
type Name string

// encoded begins names in JSON that are not valid text.
const encoded = "hex:"

// MarshalText returns the name itself if it is valid UTF-8, otherwise hexadecimal digits.
func (n Name) MarshalText() ([]byte, error) {
	if utf8.ValidString(string(n)) && !strings.HasPrefix(string(n), encoded) {
		return []byte(n), nil
	}
	return []byte(encoded + hex.EncodeToString([]byte(n))), nil
}

// UnmarshalText reads what MarshalText returns.
func (n *Name) UnmarshalText(text []byte) error {
	digits, is := strings.CutPrefix(string(text), encoded)
	if !is {
		*n = Name(text)
		return nil
	}
	name, err := hex.DecodeString(digits)
	if err != nil {
		return fmt.Errorf("%q is not a name: %w", text, err)
	}
	*n = Name(name)
	return nil
}

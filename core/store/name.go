package store

import (
	"encoding/hex"
	"fmt"
	"strings"
	"unicode/utf8"
)

// A Name is a path as a file has it, which need not be text, that is kept in JSON; not
// as a key of a map, which encoding/json writes as it is.
type Name string

// encoded begins names in JSON that could not be kept as they are.
const encoded = "hex:"

// MarshalText gives the name itself where it is UTF-8, and else hexadecimal digits.
func (n Name) MarshalText() ([]byte, error) {
	if utf8.ValidString(string(n)) && !strings.HasPrefix(string(n), encoded) {
		return []byte(n), nil
	}
	return []byte(encoded + hex.EncodeToString([]byte(n))), nil
}

// UnmarshalText reads what MarshalText gives.
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

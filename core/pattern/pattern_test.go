package pattern

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPatternsAreCompiledWhenUsed(t *testing.T) {
	broken := New("(")
	assert.Panics(t, func() { broken.MatchString("leaf") })
	p := New(`(l)(\w)`)
	assert.Equal(t, `(l)(\w)`, p.Compiled().String())
	assert.True(t, p.MatchString("a leaf"))
	assert.Equal(t, "le", p.FindString("a leaf"))
	assert.Equal(t, []string{"le", "l", "e"}, p.FindStringSubmatch("a leaf"))
	assert.Equal(t, []string{"le", "lo"}, p.FindAllString("leaf loam", -1))
	assert.Len(t, p.FindAllStringSubmatch("leaf loam lid", 2), 2)
	assert.Equal(t, "el-af", p.ReplaceAllString("leaf", "$2$1-"))
	assert.Equal(t, []string{"", "af ", "am"}, p.Split("leaf loam", -1))
}

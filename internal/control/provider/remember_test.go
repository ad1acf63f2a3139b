package provider

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is kept of a log to know it again has bounds, whatever a provider sends.
func TestWhatIsRememberedHasBounds(t *testing.T) {
	t.Parallel()
	s := &Server{}
	for range 3 {
		s.remember(make([]string, 700))
	}
	assert.Len(t, s.last, mostLast)
	long := strings.Repeat("x", mostRemembered/3)
	for range 10 {
		s.remember([]string{long, "short"})
	}
	assert.LessOrEqual(t, sizeOf(s.last), mostRemembered)
	assert.Equal(t, "short", s.last[len(s.last)-1])
	s.remember([]string{strings.Repeat("y", 2*mostRemembered)})
	assert.Empty(t, s.last)
}

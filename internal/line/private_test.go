package line_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"reshard/internal/line"
)

func TestWhatMayBeReached(t *testing.T) {
	t.Parallel()
	for address, c := range map[string]struct{ public, private error }{
		"203.0.113.7:443":               {},
		"[2001:db8::7]:443":             {},
		"127.0.0.1:443":                 {public: line.ErrPrivate},
		"10.0.0.5:443":                  {public: line.ErrPrivate},
		"0.0.0.0:443":                   {public: line.ErrPrivate},
		"0.1.2.3:443":                   {public: line.ErrPrivate},
		"100.64.0.1:443":                {public: line.ErrPrivate},
		"198.18.0.1:443":                {public: line.ErrPrivate},
		"[::1]:443":                     {public: line.ErrPrivate},
		"[::ffff:10.0.0.5]:443":         {public: line.ErrPrivate},
		"[::10.0.0.5]:443":              {public: line.ErrPrivate},
		"[fd00::1]:443":                 {public: line.ErrPrivate},
		"[fec0::1]:443":                 {public: line.ErrPrivate},
		"[2002:a00:5::]:443":            {public: line.ErrPrivate},
		"[64:ff9b::10.0.0.5]:443":       {public: line.ErrPrivate},
		"169.254.169.254:80":            {line.ErrNever, line.ErrNever},
		"[::ffff:169.254.169.254]:80":   {line.ErrNever, line.ErrNever},
		"[64:ff9b::169.254.169.254]:80": {line.ErrNever, line.ErrNever},
		"[2002:a9fe:a9fe::1]:80":        {line.ErrNever, line.ErrNever},
		"[fe80::1%eth0]:80":             {line.ErrNever, line.ErrNever},
		"[fd00:ec2::254]:80":            {line.ErrNever, line.ErrNever},
		"224.0.0.1:80":                  {line.ErrNever, line.ErrNever},
		"[ff02::1]:80":                  {line.ErrNever, line.ErrNever},
	} {
		assert.Equal(t, c.public, line.MayReach(address, false), address)
		assert.Equal(t, c.private, line.MayReach(address, true), address)
	}
	assert.Error(t, line.MayReach("a name", true))
}

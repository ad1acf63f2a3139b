package line

import (
	"encoding/base64"
	"encoding/hex"
	"net/url"
	"strings"
)

// shortestSecret is how long a secret must be to be looked for in what a peer says: a shorter one would be found by
// chance.
const shortestSecret = 4

// Scrub takes secrets out of what a peer has said, as they are and in the forms in which they go over a line.
func Scrub(said string, secrets ...string) string {
	for _, s := range secrets {
		if len(s) < shortestSecret {
			continue
		}
		for _, form := range []string{
			s, url.QueryEscape(s), url.PathEscape(s), base64.StdEncoding.EncodeToString([]byte(s)),
			base64.RawURLEncoding.EncodeToString([]byte(s)), hex.EncodeToString([]byte(s)),
		} {
			said = strings.ReplaceAll(said, form, "•••")
		}
	}
	return said
}

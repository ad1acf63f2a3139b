package ftp

import (
	"strings"
	"testing"

	"github.com/jlaffaye/ftp"

	"reshard/internal/core/budget/budgettest"
)

// Whatever a host lists: none is there twice, and reading it costs no more than any file may.
func FuzzHostListing(f *testing.F) {
	f.Add("-rw-r----- 1 0 0 5 Nov 28 03:48 b\nprw------- 1 0 0 0 Nov 28 03:48 ab\ntotal 2", "b\nc")
	f.Add("type=file;size=1; ../x\ntype=dir; .", "../x\n.")
	f.Add("lrwxrwxrwx 1 0 0 1 Nov 28 03:48 link -> b", "link")
	f.Fuzz(func(t *testing.T, text, names string) {
		var entries []*ftp.Entry
		for name := range strings.SplitSeq(names, "\n") {
			entries = append(entries, &ftp.Entry{Name: name, Size: 5})
		}
		budgettest.Within(t, func() {
			infos, err := infosOf("x", entries, strings.Split(text, "\n"))
			if err != nil {
				return
			}
			there := map[string]bool{}
			for _, i := range infos {
				if there[i.Named] {
					t.Fatalf("%q is there twice", i.Named)
				}
				there[i.Named] = true
			}
		})
	})
}

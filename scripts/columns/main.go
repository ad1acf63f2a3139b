// Command columns names the lines of Go that are longer than 120 columns, a tab counting
// four, and fails if there are any.
package main

import (
	"bufio"
	"fmt"
	"io/fs"
	"log"
	"os"
	"path/filepath"
	"strings"
)

const most = 120

func main() {
	long := 0
	for _, root := range os.Args[1:] {
		err := filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") {
				return err
			}
			n, err := check(name)
			long += n
			return err
		})
		if err != nil {
			log.Fatal(err)
		}
	}
	if long > 0 {
		os.Exit(1)
	}
}

func check(name string) (long int, err error) {
	f, err := os.Open(name)
	if err != nil {
		return 0, err
	}
	defer f.Close() //nolint:errcheck // only read
	lines := bufio.NewScanner(f)
	for n := 1; lines.Scan(); n++ {
		if c := columns(lines.Text()); c > most {
			fmt.Printf("%s:%d: %d columns\n", name, n, c)
			long++
		}
	}
	return long, lines.Err()
}

func columns(line string) (n int) {
	for _, r := range line {
		if r == '\t' {
			n += 4 - n%4
		} else {
			n++
		}
	}
	return n
}

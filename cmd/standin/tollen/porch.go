package tollen

import (
	"archive/tar"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
)

// errand is something that goes on after an answer.
type errand struct {
	is  string // under way, finished or spoiled
	why string
}

// begin does something after the answer, which names it.
func (one *Plot) begin(w http.ResponseWriter, do func() error) {
	e := &errand{is: "under way"}
	one.mu.Lock()
	one.errands = append(one.errands, e)
	id := len(one.errands)
	one.mu.Unlock()
	go func() {
		err := do()
		one.mu.Lock()
		defer one.mu.Unlock()
		if e.is = "finished"; err != nil {
			e.is, e.why = "spoiled", err.Error()
		}
	}()
	answer(w, http.StatusAccepted, map[string]any{"errand": map[string]string{"ticket": strconv.Itoa(id)}})
}

func (p *Provider) errand(w http.ResponseWriter, r *http.Request, one *Plot) {
	n, _ := strconv.Atoi(chi.URLParam(r, "ticket")) // 0 is none
	one.mu.Lock()
	defer one.mu.Unlock()
	if n < 1 || n > len(one.errands) {
		sorry(w, http.StatusNotFound, "nobody was sent on that errand")
		return
	}
	e := one.errands[n-1]
	answer(w, http.StatusOK, map[string]any{
		"errand": map[string]string{"is": e.is}, "sorry": map[string]string{"because": e.why},
	})
}

// carry puts a file that is sent to the page into the plot's folder.
func (p *Provider) carry(w http.ResponseWriter, r *http.Request, one *Plot) {
	most := one.MostCarried
	if most == 0 {
		most = 8 << 20
	}
	if r.ContentLength < 0 || r.ContentLength > most {
		sorry(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("the porch takes %d bytes, and has to know them before",
			most))
		return
	}
	err := one.within(func(root *os.Root) error {
		f, err := root.Create(r.URL.Query().Get("to"))
		if err != nil {
			return err
		}
		_, err = io.Copy(f, r.Body)
		return errors.Join(err, f.Close())
	})
	if err != nil {
		sorry(w, http.StatusConflict, err.Error())
		return
	}
	one.mu.Lock()
	one.Carried++
	one.mu.Unlock()
	answer(w, http.StatusOK, map[string]any{})
}

func (one *Plot) within(do func(*os.Root) error) error {
	root, err := os.OpenRoot(one.Dir)
	if err != nil {
		return err
	}
	return errors.Join(do(root), root.Close())
}

// unwrap unpacks a bundle in the plot's folder.
func (p *Provider) unwrap(w http.ResponseWriter, r *http.Request, one *Plot) {
	var wish struct{ Bundle, Into string }
	if err := json.NewDecoder(r.Body).Decode(&wish); err != nil {
		sorry(w, http.StatusBadRequest, "that is no bundle")
		return
	}
	one.begin(w, func() error {
		if one.Spoils != "" {
			return errors.New(one.Spoils)
		}
		return one.within(func(root *os.Root) error {
			f, err := root.Open(wish.Bundle)
			if err != nil {
				return err
			}
			return errors.Join(one.unpack(root, f, wish.Into), f.Close())
		})
	})
}

func (one *Plot) unpack(root *os.Root, from io.Reader, into string) error {
	z, err := gzip.NewReader(from)
	if err != nil {
		return err
	}
	t := tar.NewReader(z)
	for n := 0; ; n++ {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			one.mu.Lock()
			one.Unwrapped++
			one.mu.Unlock()
			return nil
		}
		if err != nil {
			return err
		}
		name := filepath.Join(into, h.Name)
		if h.Typeflag == tar.TypeDir {
			if err := root.MkdirAll(name, 0o755); err != nil {
				return err
			}
			continue
		}
		if one.LosesEach > 0 && n%one.LosesEach == 0 {
			continue
		}
		if err := root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		f, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, fs.FileMode(h.Mode).Perm())
		if err != nil {
			return err
		}
		_, err = io.Copy(f, t)
		if err = errors.Join(err, f.Close(), root.Chtimes(name, h.ModTime, h.ModTime)); err != nil {
			return err
		}
	}
}

// jar is one of the plot's backups.
type jar struct {
	Label    string    `json:"label"`
	FilledAt time.Time `json:"filledAt"`
	Bytes    int64     `json:"bytes"`
}

// jars is how many there may be, and shelf how many stand on one page of the list.
const (
	jars  = 2
	shelf = 1
)

// shelves lists the plot's backups, page by page.
func (p *Provider) shelves(w http.ResponseWriter, r *http.Request, one *Plot) {
	from, _ := strconv.Atoi(r.URL.Query().Get("from")) // the first, when it is none
	one.mu.Lock()
	defer one.mu.Unlock()
	from = min(max(from, 0), len(one.jars))
	until := min(from+shelf, len(one.jars))
	out := map[string]any{"jars": append([]jar{}, one.jars[from:until]...)}
	if until < len(one.jars) {
		out["further"] = strconv.Itoa(until)
	}
	answer(w, http.StatusOK, out)
}

// fill makes a backup, when there is room for one.
func (p *Provider) fill(w http.ResponseWriter, _ *http.Request, one *Plot) {
	one.mu.Lock()
	full := len(one.jars) >= jars
	one.mu.Unlock()
	if full {
		sorry(w, http.StatusConflict, "both jars are full")
		return
	}
	one.begin(w, func() error {
		var size int64
		err := filepath.WalkDir(one.Dir, func(_ string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			info, err := d.Info()
			if err == nil {
				size += info.Size()
			}
			return err
		})
		one.mu.Lock()
		defer one.mu.Unlock()
		one.filled++
		one.jars = append(one.jars, jar{
			fmt.Sprintf("jar-%d", one.filled),
			time.Now().UTC().Truncate(time.Second),
			size,
		})
		return err
	})
}

func (p *Provider) pour(w http.ResponseWriter, r *http.Request, one *Plot) {
	one.mu.Lock()
	defer one.mu.Unlock()
	for i, j := range one.jars {
		if j.Label == chi.URLParam(r, "label") {
			one.jars = append(one.jars[:i], one.jars[i+1:]...)
			answer(w, http.StatusOK, map[string]any{})
			return
		}
	}
	sorry(w, http.StatusNotFound, "there is no such jar")
}

// aloud reads the diary aloud: as server-sent events, the last lines first.
func (p *Provider) aloud(w http.ResponseWriter, r *http.Request, one *Plot) {
	w.Header().Set("Content-Type", "text/event-stream")
	one.mu.Lock()
	at := max(0, len(one.entries)-50)
	one.mu.Unlock()
	p.mu.Lock()
	broken := p.broken
	p.mu.Unlock()
	_, _ = io.WriteString(w, ": good evening\n\n") // who asked has gone
	flush := http.NewResponseController(w)
	for r.Context().Err() == nil {
		one.mu.Lock()
		lines := append([]string(nil), one.entries[min(at, len(one.entries)):]...)
		one.mu.Unlock()
		for _, line := range lines {
			raw, _ := json.Marshal(map[string]string{"entry": line}) // a text always encodes
			_, _ = fmt.Fprintf(w, "event: entry\ndata: %s\n\n", raw)
		}
		at += len(lines)
		if flush.Flush() != nil {
			return
		}
		select {
		case <-r.Context().Done():
		case <-broken:
			return
		case <-time.After(30 * time.Millisecond):
		}
	}
}

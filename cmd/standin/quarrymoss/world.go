// Package quarrymoss plays a made-up block-building game: it makes worlds and
// runs a server that behaves, badly where real servers do, enough to prove
// Reshard. It is used by the demo and the tests only; Reshard knows the game
// from games/quarrymoss.yaml alone. docs/stand-ins.md describes the formats.
package quarrymoss

import (
	"compress/gzip"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/google/uuid"
)

// Heart is the world's head file, heart.cbor.gz.
type Heart struct {
	Title      string    `cbor:"title"`
	Seed       int64     `cbor:"seed"`
	WrittenBy  string    `cbor:"written-by"`
	Family     string    `cbor:"family"`
	WorldID    string    `cbor:"world-id"`
	Mods       []Mod     `cbor:"mods"`
	Created    time.Time `cbor:"created"`
	LastPlayed time.Time `cbor:"last-played"`
	Spawn      [2]int    `cbor:"spawn"`
}

// Mod is one mod a world or a server has.
type Mod struct {
	Name    string `cbor:"name" json:"name"`
	Version string `cbor:"version" json:"version"`
}

// Options say what world to make.
type Options struct {
	Title      string
	Seed       int64
	Version    string // default 2.4.0
	Family     string // default moss
	Mods       []Mod
	Tiles      int // default 16
	TileBytes  int // payload of each tile, default 512
	Folk       []string
	Realms     []string // caverns, aurora
	Split      bool     // realms beside the world
	LastPlayed time.Time
}

func (o *Options) fill() {
	if o.Version == "" {
		o.Version = "2.4.0"
	}
	if o.Family == "" {
		o.Family = "moss"
	}
	if o.Tiles == 0 {
		o.Tiles = 16
	}
	if o.TileBytes == 0 {
		o.TileBytes = 512
	}
	if o.LastPlayed.IsZero() {
		o.LastPlayed = time.Date(2026, 11, 14, 20, 30, 0, 0, time.UTC)
	}
}

// Make writes a world into dir, which must not exist. Equal options give equal
// bytes but for the world's id, which derives from title and seed.
func Make(dir string, o Options) error {
	o.fill()
	if err := os.Mkdir(dir, 0o755); err != nil {
		return err
	}
	h := Heart{
		Title: o.Title, Seed: o.Seed, WrittenBy: o.Version, Family: o.Family, Mods: o.Mods,
		WorldID: uuid.NewSHA1(uuid.NameSpaceOID, fmt.Appendf(nil, "%s/%d", o.Title, o.Seed)).String(),
		Created: o.LastPlayed.AddDate(-2, 0, 0), LastPlayed: o.LastPlayed,
		Spawn: [2]int{int(o.Seed % 13), int(o.Seed % 7)},
	}
	if err := WriteHeart(dir, h); err != nil {
		return err
	}
	if err := makeTiles(filepath.Join(dir, "ground"), o.Seed, o.Tiles, o.TileBytes, true); err != nil {
		return err
	}
	for _, realm := range o.Realms {
		to := filepath.Join(dir, "realms", realm)
		if o.Split {
			to = dir + "~" + realm
		}
		if err := makeTiles(to, o.Seed^int64(len(realm)), max(1, o.Tiles/4), o.TileBytes, true); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(filepath.Join(dir, "folk"), 0o755); err != nil {
		return err
	}
	for i, name := range o.Folk {
		id := uuid.NewSHA1(uuid.NameSpaceOID, []byte(name)).String()
		data, err := json.Marshal(map[string]any{
			"name":    name,
			"at":      [3]int{24*i - 30, 64, 17 - 12*i},
			"carries": []string{"trowel", "seed potatoes"},
		})
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, "folk", id+".json"), data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// WriteHeart writes heart.cbor.gz.
func WriteHeart(dir string, h Heart) (err error) {
	mode, err := cbor.EncOptions{Time: cbor.TimeRFC3339, TimeTag: cbor.EncTagRequired}.EncMode()
	if err != nil {
		return err
	}
	data, err := mode.Marshal(h)
	if err != nil {
		return err
	}
	f, err := os.Create(filepath.Join(dir, "heart.cbor.gz"))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	z := gzip.NewWriter(f)
	if _, err := z.Write(data); err != nil {
		return err
	}
	return z.Close()
}

// ReadHeart reads heart.cbor.gz.
func ReadHeart(dir string) (h Heart, err error) {
	f, err := os.Open(filepath.Join(dir, "heart.cbor.gz"))
	if err != nil {
		return h, err
	}
	defer f.Close() //nolint:errcheck // only read
	return DecodeHeart(f)
}

// DecodeHeart reads what heart.cbor.gz holds.
func DecodeHeart(from io.Reader) (h Heart, err error) {
	z, err := gzip.NewReader(from)
	if err != nil {
		return h, err
	}
	data, err := io.ReadAll(z)
	if err != nil {
		return h, err
	}
	return h, cbor.Unmarshal(data, &h)
}

// makeTiles writes tiles around the origin. A tile is 4 bytes "QMT1", x and z
// as little-endian int32, 4 bytes of a hash of the seed, 256 ground colours (16
// by 16, one byte each, row by row), then the payload. Built tiles differ from
// what the seed alone would give, as places do where people have built.
func makeTiles(dir string, seed int64, count, payload int, built bool) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	side := 1
	for side*side < count {
		side++
	}
	for i := range count {
		x, z := i%side-side/2, i/side-side/2
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("t.%d.%d.qt", x, z)), tile(seed, x, z, payload, built),
			0o644); err != nil {
			return err
		}
	}
	return nil
}

// ground gives one of eight colours, from water to snow, in hills that the seed
// shifts.
func ground(seed int64, x, z int) byte {
	s := float64(seed % 1000)
	height := 3.5 + 2*math.Sin(float64(x)/19+s) + 1.6*math.Cos(float64(z)/14-s) + 0.9*math.Sin(float64(x+2*z)/9+s/3)
	return byte(min(7, max(0, height)))
}

func tile(seed int64, x, z, payload int, built bool) []byte {
	h := fnv.New64a()
	salt := 0
	if built {
		salt = 1
	}
	fmt.Fprintf(h, "%d/%d/%d/%d", seed, x, z, salt)
	r := rand.NewChaCha8([32]byte(fmt.Appendf(nil, "%032x", h.Sum64())))
	out := make([]byte, 16+256+payload)
	copy(out, "QMT1")
	binary.LittleEndian.PutUint32(out[4:], uint32(int32(x)))
	binary.LittleEndian.PutUint32(out[8:], uint32(int32(z)))
	binary.LittleEndian.PutUint32(out[12:], uint32(seed))
	for i := range 256 {
		out[16+i] = ground(seed, x*16+i%16, z*16+i/16)
	}
	_, _ = r.Read(out[272:]) // never fails
	return out
}

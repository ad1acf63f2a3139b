// Package saltmarch plays a made-up co-operative survival game: its worlds are
// folders named by 32 hexadecimal digits, its files are sealed (a header with
// lengths and a checksum, zlib, CBOR), who plays alone has a fixed id, and its
// server writes a log file and has no console. It is used by the demo and the
// tests only; Reshard knows the game from games/saltmarch.yaml alone.
// docs/stand-ins.md describes the formats.
package saltmarch

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/fxamacker/cbor/v2"
	"github.com/google/uuid"
)

// ID is a person, a camp or a world: 16 bytes.
type ID [16]byte

// MarshalCBOR writes an id as a byte string.
func (id ID) MarshalCBOR() ([]byte, error) { return cbor.Marshal(id[:]) }

// UnmarshalCBOR reads one.
func (id *ID) UnmarshalCBOR(data []byte) error {
	var b []byte
	if err := cbor.Unmarshal(data, &b); err != nil {
		return err
	}
	if len(b) != len(id) {
		return fmt.Errorf("an id has %d bytes, not %d", len(id), len(b))
	}
	copy(id[:], b)
	return nil
}

// String writes an id as the 32 digits of a file's name.
func (id ID) String() string { return strings.ToUpper(hex.EncodeToString(id[:])) }

// Host is the id of whoever plays alone.
var Host = ID{15: 1}

// space is the namespace of the ids that a server derives from accounts.
var space = uuid.MustParse("5a17aaaa-0000-5000-8000-000000000001")

// Account gives the id under which a server knows an account (RFC 9562, version 5).
func Account(name string) ID { return ID(uuid.NewSHA1(space, []byte(name))) }

// Level is the head of a world, Level.smw.
type Level struct {
	Name    string   `cbor:"name"`
	Seed    int64    `cbor:"seed"`
	Version string   `cbor:"version"`
	World   ID       `cbor:"world"`
	Day     int      `cbor:"day"`
	Mods    []string `cbor:"mods"`
	Camps   []Camp   `cbor:"camps"`
	Clans   []Clan   `cbor:"clans"`
}

// Camp belongs to a person.
type Camp struct {
	Name  string `cbor:"name"`
	Owner ID     `cbor:"owner"`
}

// Clan is several people.
type Clan struct {
	Name    string `cbor:"name"`
	Members []ID   `cbor:"members"`
}

// Folk is one person's record, Folk/ID.smw.
type Folk struct {
	ID     ID     `cbor:"id"`
	Name   string `cbor:"name"`
	Health int    `cbor:"health"`
	Pack   []byte `cbor:"pack"`
}

// headerSize is that of a sealed file: magic, header size, inner length, stored
// length, CRC-32, format.
const headerSize = 24

// Seal writes a value as a sealed file.
func Seal(file string, v any) error {
	inside, err := cbor.Marshal(v)
	if err != nil {
		return err
	}
	var stored bytes.Buffer
	w := zlib.NewWriter(&stored)
	if _, err := w.Write(inside); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	head := make([]byte, headerSize)
	copy(head, "SMW1")
	for i, n := range []uint32{
		headerSize,
		uint32(len(inside)),
		uint32(stored.Len()),
		crc32.ChecksumIEEE(stored.Bytes()),
		3,
	} {
		binary.LittleEndian.PutUint32(head[4+4*i:], n)
	}
	return os.WriteFile(file, append(head, stored.Bytes()...), 0o644)
}

// Open reads a sealed file, which must be whole.
func Open(file string, v any) error {
	data, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	if len(data) < headerSize || string(data[:4]) != "SMW1" {
		return errors.New("not a sealed file")
	}
	rest := data[headerSize:]
	if crc32.ChecksumIEEE(rest) != binary.LittleEndian.Uint32(data[16:]) {
		return errors.New("checksum mismatch")
	}
	r, err := zlib.NewReader(bytes.NewReader(rest))
	if err != nil {
		return err
	}
	inside, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	return cbor.Unmarshal(inside, v)
}

// Options say what world to make.
type Options struct {
	Name    string
	Seed    int64
	Version string   // default 1.3.0
	Host    string   // the name of who played alone; "" for a world of a server
	Folk    []string // names of others, with accounts of the same name
	Rules   string   // HostRules.smw, when not empty
	Mods    []string
}

// Make writes a world into a folder below dir and gives the folder's name.
func Make(dir string, o Options) (string, error) {
	if o.Version == "" {
		o.Version = "1.3.0"
	}
	id := ID(uuid.NewSHA1(space, fmt.Appendf(nil, "world %s %d", o.Name, o.Seed)))
	root := filepath.Join(dir, id.String())
	if err := os.MkdirAll(filepath.Join(root, "Folk"), 0o755); err != nil {
		return "", err
	}
	level := Level{Name: o.Name, Seed: o.Seed, Version: o.Version, World: id, Day: 41, Mods: o.Mods}
	folk := []Folk{}
	if o.Host != "" {
		folk = append(folk, Folk{ID: Host, Name: o.Host, Health: 90, Pack: []byte("reed knife")})
		level.Camps = append(level.Camps, Camp{Name: o.Host + "'s stilt house", Owner: Host})
	}
	for _, name := range o.Folk {
		folk = append(folk, Folk{ID: Account(name), Name: name, Health: 70, Pack: []byte("eel trap")})
	}
	var members []ID
	for _, f := range folk {
		members = append(members, f.ID)
		if err := Seal(filepath.Join(root, "Folk", f.ID.String()+".smw"), f); err != nil {
			return "", err
		}
	}
	level.Clans = []Clan{{Name: "Bank Holders", Members: members}}
	if o.Rules != "" {
		if err := Seal(filepath.Join(root, "HostRules.smw"), map[string]string{"tides": o.Rules}); err != nil {
			return "", err
		}
	}
	return id.String(), Seal(filepath.Join(root, "Level.smw"), level)
}

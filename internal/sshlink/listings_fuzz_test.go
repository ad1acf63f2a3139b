package sshlink

import (
	"encoding/binary"
	"testing"

	"reshard/internal/core/budget/budgettest"
)

// What a host sends over SFTP is followed at no cost, and alike however it is cut.
func FuzzListings(f *testing.F) {
	packet := func(kind byte, rest ...byte) []byte {
		return append(append(binary.BigEndian.AppendUint32(nil, uint32(len(rest)+1)), kind), rest...)
	}
	f.Add(packet(packetReadDir, 0, 0, 0, 1, 0, 0, 0, 1, 'h'), packet(packetName, 0, 0, 0, 1, 0, 3, 0xd, 0x41), byte(3))
	f.Add(packet(packetReadDir, 0, 0, 0, 1), packet(packetName, 0, 0, 0, 1, 0xff, 0xff, 0xff, 0xff), byte(1))
	f.Add([]byte{0, 0, 0, 0, 0}, []byte{0xff, 0xff, 0xff, 0xff, 104}, byte(9))
	f.Fuzz(func(t *testing.T, asked, answered []byte, cut byte) {
		budgettest.Within(t, func() {
			whole, parts := newListings(), newListings()
			a := frames{see: whole.asked}
			_ = a.take(asked)
			b := frames{see: whole.answered}
			want := b.take(answered)
			a, b = frames{see: parts.asked}, frames{see: parts.answered}
			_ = a.take(asked)
			var got error
			for rest := answered; len(rest) > 0 && got == nil; {
				n := min(len(rest), int(cut)+1)
				got = b.take(rest[:n])
				rest = rest[n:]
			}
			if (got == nil) != (want == nil) {
				t.Fatalf("in one piece: %v, in parts of %d: %v", want, cut, got)
			}
		})
	})
}

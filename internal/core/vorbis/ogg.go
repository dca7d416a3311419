package vorbis

import (
	"bufio"
	"encoding/binary"
	"errors"
	"io"
)

// maxPacket bounds one packet, in bytes: a header with the largest codebooks in use has some tens of thousands.
const maxPacket = 4 << 20

// pages reads the packets of the first stream of an Ogg file (RFC 3533).
type pages struct {
	in      *bufio.Reader
	serial  uint32
	started bool
	ended   bool
	// What is left of the page at hand: the lengths of its segments, and whether its first packet goes on from the page before.
	segments []byte
	goes     bool
	granule  int64
	last     int64 // the granule of the last page, -1 where none says one
	packet   []byte
}

func newPages(r io.Reader) *pages { return &pages{in: bufio.NewReaderSize(r, 64<<10), last: -1} }

// table is that of the page's check sum: a CRC of 32 bits with the polynomial 0x04c11db7, not reflected.
var table = func() (t [256]uint32) {
	for i := range t {
		v := uint32(i) << 24
		for range 8 {
			if v&0x80000000 != 0 {
				v = v<<1 ^ 0x04c11db7
			} else {
				v <<= 1
			}
		}
		t[i] = v
	}
	return t
}()

func sum(crc uint32, data []byte) uint32 {
	for _, b := range data {
		crc = crc<<8 ^ table[byte(crc>>24)^b]
	}
	return crc
}

// page begins the next page of the stream; its segments' bytes are read by packet.
func (p *pages) page() (body []byte, err error) {
	for {
		var head [27]byte
		if _, err := io.ReadFull(p.in, head[:]); err != nil {
			if errors.Is(err, io.ErrUnexpectedEOF) {
				err = damaged("it was cut off")
			}
			return nil, err
		}
		if string(head[:4]) != "OggS" || head[4] != 0 {
			return nil, damaged("a page of it does not begin where it should")
		}
		segments := make([]byte, head[26])
		if _, err := io.ReadFull(p.in, segments); err != nil {
			return nil, damaged("it was cut off")
		}
		size := 0
		for _, s := range segments {
			size += int(s)
		}
		body = make([]byte, size)
		if _, err := io.ReadFull(p.in, body); err != nil {
			return nil, damaged("it was cut off")
		}
		want := binary.LittleEndian.Uint32(head[22:])
		clear(head[22:26])
		if sum(sum(sum(0, head[:]), segments), body) != want {
			return nil, damaged("a page of it is not as it was written")
		}
		serial := binary.LittleEndian.Uint32(head[14:])
		if !p.started {
			p.started, p.serial = true, serial
		}
		if serial != p.serial {
			continue // of another stream
		}
		p.segments, p.goes, p.granule = segments, head[5]&1 != 0, int64(binary.LittleEndian.Uint64(head[6:]))
		p.ended = head[5]&4 != 0
		if p.granule >= 0 {
			p.last = p.granule
		}
		return body, nil
	}
}

// reader gives one packet after the other.
type reader struct {
	*pages
	body []byte
}

// next is the next packet, valid until it is called again; io.EOF after the last one.
func (r *reader) next() ([]byte, error) {
	r.packet = r.packet[:0]
	passing := false
	for {
		for len(r.segments) == 0 {
			if r.ended {
				return nil, io.EOF
			}
			body, err := r.page()
			if err == io.EOF && len(r.packet) > 0 {
				err = damaged("it was cut off")
			}
			if err != nil {
				return nil, err
			}
			r.body = body
			if r.goes && len(r.packet) == 0 {
				passing = true
			} else if !r.goes {
				r.packet = r.packet[:0]
			}
		}
		n := r.segments[0]
		r.segments = r.segments[1:]
		if len(r.packet)+int(n) > maxPacket {
			return nil, damaged("a packet in it is too long")
		}
		r.packet = append(r.packet, r.body[:n]...)
		r.body = r.body[n:]
		if n == 255 {
			continue
		}
		if passing {
			passing, r.packet = false, r.packet[:0]
			continue
		}
		return r.packet, nil
	}
}

// bitReader reads a packet bit by bit, the lowest of each byte first (Vorbis I, section 2). Behind its end there are zeros, and over is
// set.
type bitReader struct {
	data []byte
	at   int
	over bool
}

func (b *bitReader) read(n int) (v uint32) {
	for i := 0; i < n; {
		if b.at>>3 >= len(b.data) {
			b.over = true
			return v
		}
		take := min(8-b.at&7, n-i)
		v |= uint32(b.data[b.at>>3]>>(b.at&7)&(1<<take-1)) << i
		b.at += take
		i += take
	}
	return v
}

func (b *bitReader) flag() bool { return b.read(1) == 1 }

package etcd

import (
	"bytes"
	"slices"
)

// digits are the bytes that keys use, as far as is known. With them keys are taken for numbers, so that a range can
// be cut where keys may be.
type digits struct {
	has  [256]bool
	list []byte // in order
}

// digitsOf returns the bytes that keys use behind what low and high begin with alike.
func digitsOf(low, high []byte, keys [][]byte) *digits {
	d := &digits{}
	head := shared(low, high)
	for _, k := range keys {
		for _, b := range k[min(head, len(k)):] {
			d.has[b] = true
		}
	}
	return d.listed()
}

func (d *digits) listed() *digits {
	d.list = nil
	for b, has := range d.has {
		if has {
			d.list = append(d.list, byte(b))
		}
	}
	return d
}

// union returns the bytes of both; other may be nil.
func (d *digits) union(other *digits) *digits {
	if other == nil {
		return d
	}
	out := &digits{has: d.has}
	for b, has := range other.has {
		out.has[b] = out.has[b] || has
	}
	return out.listed()
}

// between cuts the range from low to high into at most n of the same width. High nil is without end.
func (d *digits) between(low, high []byte, n int) [][]byte {
	base := uint64(len(d.list))
	if base < 2 || n < 2 {
		return nil
	}
	if high == nil {
		high = bytes.Repeat([]byte{0xff}, len(low)+1)
	}
	head := shared(low, high)
	places, all := 0, uint64(1)
	for all < 1<<40 {
		places, all = places+1, all*base
	}
	a, b := d.number(low, head, places), d.number(high, head, places)
	var out [][]byte
	last := low
	for i := uint64(1); i < uint64(n) && b > a; i++ {
		cut := d.key(high[:head], a+(b-a)/uint64(n)*i, places)
		if bytes.Compare(cut, last) > 0 && bytes.Compare(cut, high) < 0 {
			out = append(out, cut)
			last = cut
		}
	}
	return out
}

// number takes what stands in a key from head on for a number of so many places.
func (d *digits) number(key []byte, head, places int) (n uint64) {
	base := uint64(len(d.list))
	for i := range places {
		var digit uint64
		if head+i < len(key) {
			at, found := slices.BinarySearch(d.list, key[head+i])
			digit = uint64(at)
			if !found { // it stands for the least that is greater, or for more than all
				return (n*base + digit) * power(base, places-i-1)
			}
		}
		n = n*base + digit
	}
	return n
}

func power(base uint64, n int) uint64 {
	out := uint64(1)
	for range n {
		out *= base
	}
	return out
}

// key is the key that begins so and has such a number.
func (d *digits) key(head []byte, n uint64, places int) []byte {
	base := uint64(len(d.list))
	out := append(bytes.Clone(head), make([]byte, places)...)
	for i := len(out) - 1; i >= len(head); i-- {
		out[i] = d.list[n%base]
		n /= base
	}
	// Zeros at the end say nothing.
	for len(out) > len(head)+1 && out[len(out)-1] == d.list[0] {
		out = out[:len(out)-1]
	}
	return out
}

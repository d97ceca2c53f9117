package redis

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net"
	"strings"
	"testing"
	"time"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/redis/rdb"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/engine/redis/resp"
)

// content reads a server's content as it is sent, and what becomes of it.
func content(t testing.TB, address string) (raw []byte, want map[string]string) {
	ctx := context.Background()
	c, err := Driver{}.Open(ctx, engine.Target{Name: "bramble", Address: address})
	require.NoError(t, err)
	defer c.Close()
	l, err := c.(*cluster).dial(ctx, c.(*cluster).hosts[0])
	require.NoError(t, err)
	defer l.Close()
	_, _, err = c.(*cluster).fullSync(l)
	require.NoError(t, err)
	_, err = l.answer(silence)
	require.NoError(t, err)
	var buf bytes.Buffer
	want, unread, err := parseAhead(io.TeeReader(patient{l}, &buf))
	require.NoError(t, err)
	return buf.Bytes()[:buf.Len()-unread], want
}

func parse(r io.Reader) (map[string]string, error) {
	out, _, err := parseAhead(r)
	return out, err
}

// parseAhead tells also how many bytes were read that are none of the content.
func parseAhead(r io.Reader) (out map[string]string, unread int, err error) {
	out = map[string]string{}
	c := &cluster{}
	d := &rdb.Reader{R: r, Sink: c.assembler(func(ns string, r record.Record) error {
		out[ns+" "+string(r.Key)] = string(r.Value)
		return nil
	})}
	err = d.ReadAll()
	return out, d.Unread(), err
}

// readSimple reads content and counts its records.
func readSimple(t testing.TB, raw []byte) (n int) {
	c := &cluster{}
	d := rdb.NewReader(raw, c.assembler(func(string, record.Record) error { n++; return nil }))
	require.NoError(t, d.ReadAll())
	return n
}

func sample(t testing.TB, args ...string) (raw []byte, want map[string]string) {
	s := redistest.Start(t, args...)
	cl := redistest.Client(t, s)
	ctx := context.Background()
	p := cl.Pipeline()
	for i := range 40 {
		k := fmt.Sprint("stalls:", i)
		switch i % 6 {
		case 0:
			p.Set(ctx, k, strings.Repeat(fmt.Sprint("honey ", i), i), 0)
		case 1:
			p.RPush(ctx, k, "a", i, strings.Repeat("b", 200))
		case 2:
			p.SAdd(ctx, k, i, i+1, "c")
		case 3:
			p.HSet(ctx, k, "field", i, "other", "value")
		case 4:
			p.ZAdd(ctx, k, goredis.Z{Score: float64(i) / 3, Member: "m"})
		case 5:
			p.XAdd(ctx, &goredis.XAddArgs{Stream: k, ID: "1-1", Values: []string{"f", "v"}})
			p.XGroupCreate(ctx, k, "g", "0")
			p.XReadGroup(ctx, &goredis.XReadGroupArgs{Group: "g", Consumer: "c", Streams: []string{k, ">"}})
		}
	}
	p.Expire(ctx, "stalls:0", time.Hour)
	_, err := p.Exec(ctx)
	require.NoError(t, err)
	return content(t, redistest.Address(s))
}

// TestDamagedContentIsNoticed: content that is cut off anywhere, or of which a
// bit has flipped, is refused, wherever that is.
func TestDamagedContentIsNoticed(t *testing.T) {
	raw, want := sample(t)
	got, err := parse(bytes.NewReader(raw))
	require.NoError(t, err)
	require.Equal(t, want, got)
	for n := range len(raw) {
		_, err := parse(bytes.NewReader(raw[:n]))
		require.ErrorIs(t, err, io.ErrUnexpectedEOF, "cut at %d", n)
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range 4000 {
		bit := r.IntN(8 * (len(raw) - 8)) // the checksum itself may become "none"
		bad := bytes.Clone(raw)
		bad[bit/8] ^= 1 << (bit % 8)
		_, err := parse(bytes.NewReader(bad))
		require.Error(t, err, "bit %d", bit)
	}
}

// TestUnknownContentIsSaid: a later version, a module's value, an unknown type.
func TestUnknownContentIsSaid(t *testing.T) {
	for text, want := range map[string]error{
		"REDIS0013\xff": rdb.ErrVersion, "REDIS0000": rdb.ErrVersion, "VALKEY081": rdb.ErrVersion,
		"VALKEY011":          rdb.ErrVersion,
		"REDIS0011\x63\x01k": rdb.ErrType, "REDIS0011\x07\x01k": rdb.ErrType, "REDIS0011\xf7\x00": rdb.ErrType} {
		_, err := parse(strings.NewReader(text))
		require.ErrorIs(t, err, want, "%q", text)
	}
	_, err := parse(strings.NewReader("REDIS0011\x63\x05stall"))
	require.ErrorContains(t, err, "db0, key stall: a value is of a type that is not known: number 99")
}

// TestOldForms reads what servers of former years sent; the bytes are made after
// the published description of the form.
func TestOldForms(t *testing.T) {
	zip := func(entries ...string) string {
		b := make([]byte, 10)
		for _, e := range entries {
			b = append(append(b, 0), e...)
		}
		b = append(b, 0xFF)
		binary.LittleEndian.PutUint32(b, uint32(len(b)))
		return string(rune(len(b))) + string(b)
	}
	str := func(s string) string { return string(rune(len(s))) + s }
	for _, c := range []struct{ bytes, want string }{
		{"\x0a" + str("k") + zip("\x02hi", "\xfe\xff", "\xc0\x00\x01", "\xf0\xff\xff\xff", "\xf3", "\x40\x03abc"),
			"RPUSH k hi -1 256 -1 2 abc"},
		{"\x0d" + str("k") + zip("\x01f", "\x01v"), "HSET k f v"},
		{"\x0c" + str("k") + zip("\x01m", "\x031.5", "\x01a", "\xf2"), "ZADD k 1 a 1.5 m"},
		{"\x09" + str("k") + str("\x01\x01f\x03\x02val\x00\x00\xff"), "HSET k f val"},
		{"\x03" + str("k") + "\x02" + "\x01m\x032.5" + "\x01n\xfe", "ZADD k 2.5 m inf n"},
		{"\x0e" + str("k") + "\x01" + zip("\x01a", "\x01b"), "RPUSH k a b"},
		{"\x0b" + str("k") + str("\x02\x00\x00\x00\x02\x00\x00\x00\xff\xff\x05\x00"), "SADD k -1 5"},
		{"\xfd\x01\x00\x00\x00\x00" + str("k") + "\xc0\x2a", "SET k 42; PEXPIREAT 1000"},
	} {
		got, err := parse(strings.NewReader("REDIS0003" + c.bytes + "\xff"))
		require.NoError(t, err, c.want)
		require.Equal(t, c.want, model{}.Render([]byte(got["db0 k\x00\x01"])), "%x", c.bytes)
	}
}

// FuzzContent: whatever is sent, reading it ends, takes no more memory than it is
// long, and what it gives can be shown.
func FuzzContent(f *testing.F) {
	raw, _ := sample(f)
	f.Add(raw)
	f.Add([]byte("REDIS0011\x0e\x01k\x01\xc3\x05\x10\x01ab\x20\x01"))
	f.Fuzz(func(t *testing.T, b []byte) {
		got, err := parse(bytes.NewReader(b))
		if err != nil {
			return
		}
		for k, v := range got {
			_, key, err := unitOf([]byte(k[strings.IndexByte(k, ' ')+1:]))
			require.NoError(t, err)
			require.NotEqual(t, "(not readable)", model{}.Render([]byte(v)))
			require.Contains(t, v, string(key))
		}
	})
}

// FuzzStream: whatever comes on the stream, each command comes back as it was, or
// it is refused.
func FuzzStream(f *testing.F) {
	f.Add([]byte("*3\r\n$3\r\nSET\r\n$1\r\nk\r\n$1\r\nv\r\n\n*1\r\n$4\r\nPING\r\n"))
	f.Add([]byte("*2\r\n$-1\r\n"))
	f.Add([]byte("*999999999\r\n$1\r\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		w := resp.NewWire(bytes.NewReader(b))
		for {
			before := w.N
			args, err := w.Command()
			if err != nil {
				require.True(t, errors.Is(err, resp.ErrProtocol) || errors.Is(err, io.ErrUnexpectedEOF), "%v", err)
				return
			}
			if len(args) == 0 {
				continue
			}
			again := resp.AppendCommand(nil, args...)
			got, rest, err := resp.ReadCommand(again)
			require.NoError(t, err)
			require.Empty(t, rest)
			require.Equal(t, args, got)
			require.LessOrEqual(t, w.N-before, int64(len(b)))
			_, _ = keysOf(args)
			_ = deferred(args, 1)
		}
	})
}

func TestSlots(t *testing.T) {
	for key, slot := range map[string]int{
		"123456789": 12739, "foo{hive}": slotOf([]byte("hive")), "{}x": slotOf([]byte("{}x")), "foo{{bar}}": slotOf(
			[]byte("{bar"))} {
		require.Equal(t, slot, slotOf([]byte(key)), key)
	}
}

// TestServersThatNeverEnd: a line without an end, and signs of life without an answer, are errors soon.
func TestServersThatNeverEnd(t *testing.T) {
	for name, c := range map[string]struct{ sends, want string }{
		"line":          {strings.Repeat("+PONG ", 100), "a line of more than"},
		"signs of life": {strings.Repeat("\n", 100), "signs of life"},
	} {
		t.Run(name, func(t *testing.T) {
			ours, theirs := net.Pipe()
			defer ours.Close()
			go func() {
				for {
					if _, err := theirs.Write([]byte(c.sends)); err != nil {
						return
					}
				}
			}()
			l := &link{Conn: ours, Wire: resp.NewWire(ours)}
			_, err := l.answer(200 * time.Millisecond)
			require.ErrorContains(t, err, c.want)
		})
	}
}

// TestWhatAnAnswerAnnounces: the client library makes room for what an answer says will come. It is
// refused before that, however the answer is cut; what is right passes as it is.
func TestWhatAnAnswerAnnounces(t *testing.T) {
	good := "*3\r\n$5\r\n$99\r\n\r\n$-1\r\n+OK\r\n:7\r\n$0\r\n\r\n"
	for name, c := range map[string]struct{ sends, want string }{
		"right":        {good, ""},
		"a bulk":       {good + "$2000000000\r\n", "announces a string of 2000000000 bytes"},
		"in an answer": {"*2\r\n$1\r\nx\r\n$2000000000\r\n", "announces a string"},
		"an error":     {"!2000000000\r\n", "announces a string"},
		"a line":       {"+" + strings.Repeat("P", maxReplyLine+1), "a line of more than"},
	} {
		for _, step := range []int{1, 3, 1 << 20} {
			ours, theirs := net.Pipe()
			go func() {
				for rest := []byte(c.sends); len(rest) > 0; {
					n := min(len(rest), max(step, len(rest)/4096))
					if _, err := theirs.Write(rest[:n]); err != nil {
						return
					}
					rest = rest[n:]
				}
				_ = theirs.Close()
			}()
			got, err := io.ReadAll(&bounded{Conn: ours})
			_ = ours.Close()
			if c.want == "" {
				require.NoError(t, err)
				require.Equal(t, c.sends, string(got))
				continue
			}
			require.ErrorContains(t, err, c.want, "%s in steps of %d", name, step)
		}
	}
	// The client itself.
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			_, _ = conn.Write([]byte("$2000000000\r\n"))
		}
	}()
	c := &cluster{}
	cl := goredis.NewClient(c.options(l.Addr().String()))
	defer cl.Close()
	_, err = cl.Get(context.Background(), "hive").Result()
	require.ErrorContains(t, err, "announces a string")
}

// TestWhatLooksLikeAnExpiry puts pieces of the protocol, among them whole commands, into keys and values: only the
// command that the value really ends with is an expiry, and changing it leaves everything before it as it is.
func TestWhatLooksLikeAnExpiry(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 22))
	pieces := []string{"*3\r\n$9\r\nPEXPIREAT\r\n$1\r\nk\r\n$13\r\n1000000000000\r\n", "\r\nPEXPIREAT\r\n", "*", "$",
		"\r\n",
		"$9\r\nPEXPIREAT", "*3\r\n", "1000000000000", "PEXPIREAT", "\x00", "k", "*1\r\n$4\r\nPING\r\n"}
	text := func() string {
		s := ""
		for range 1 + rng.IntN(6) {
			s += pieces[rng.IntN(len(pieces))]
		}
		return s
	}
	for range 100_000 {
		key := text()
		var plain []byte
		for range 1 + rng.IntN(2) {
			plain = resp.AppendCommand(plain, resp.Command("RPUSH", key, text(), text())...)
		}
		_, does := model{}.Expires(plain)
		require.False(t, does, "%q", plain)
		require.Equal(t, plain, model{}.Resume(model{}.Defer(plain)))
		ms := int64(1)<<39 + rng.Int64N(3e12) // from 1987 on
		timed := resp.AppendCommand(bytes.Clone(plain), resp.Command("PEXPIREAT", key, ms)...)
		at, does := model{}.Expires(timed)
		require.True(t, does, "%q", timed)
		require.Equal(t, ms, at.UnixMilli())
		deferred := model{}.Defer(timed)
		require.True(t, bytes.HasPrefix(deferred, plain), "%q", deferred)
		require.Equal(t, timed, model{}.Resume(deferred))
	}
}

// TestSetWithATimeOnOlderServers: what one command does there do two.
func TestSetWithATimeOnOlderServers(t *testing.T) {
	join := func(list [][][]byte) (out []string) {
		for _, args := range list {
			out = append(out, string(bytes.Join(args, []byte(" "))))
		}
		return out
	}
	set := resp.Command("SET", "k", "v", "PXAT", "1900000000000", "KEEPTTL")
	require.Equal(t, []string{"SET k v KEEPTTL", "PEXPIREAT k 1900000000000"}, join(withoutPXAT(set, true)))
	require.Equal(t, []string{"SET k v PXAT 1900000000000 KEEPTTL"}, join(withoutPXAT(set, false)))
	require.Equal(t, []string{"SET pxat PXAT"}, join(withoutPXAT(resp.Command("SET", "pxat", "PXAT"), true)))
}

// TestExpiriesThatArePutOff: what is put off is set right again, of all but a few that no
// server will ever see end.
func TestExpiriesThatArePutOff(t *testing.T) {
	for _, ms := range []int64{1, 1_764_300_000_000, 1 << 42, 1<<51 - 1, 1 << 51, 1<<52 - 1,
		1<<53 + 1, 1 << 62, math.MaxInt64} {
		v := resp.AppendCommand(nil, resp.Command("SET", "k", "v")...)
		v = resp.AppendCommand(v, resp.Command("PEXPIREAT", "k", ms)...)
		put := model{}.Defer(v)
		at, _ := expiryMillis(put)
		require.GreaterOrEqual(t, at, int64(1)<<51, ms)
		require.Equal(t, v, model{}.Resume(put), ms)
	}
}

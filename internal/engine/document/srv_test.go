package document

import (
	"context"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"

	"dexamen/internal/engine"
	"dexamen/internal/sim/docsim"
)

// TestSRVAddress opens a cluster by the name under which DNS lists its members.
func TestSRVAddress(t *testing.T) {
	rs, err := docsim.Start(docsim.Options{})
	require.NoError(t, err)
	t.Cleanup(rs.Close)
	names := map[string]string{"_mongodb._tcp.meadow.example.test.": "farm"}
	dns, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = dns.Close() })
	go func() {
		buf := make([]byte, 2048)
		for {
			n, from, err := dns.ReadFrom(buf)
			if err != nil {
				return
			}
			var m dnsmessage.Message
			if m.Unpack(buf[:n]) != nil || len(m.Questions) == 0 {
				continue
			}
			q := m.Questions[0]
			m.Response, m.Additionals = true, nil
			h := dnsmessage.ResourceHeader{Name: q.Name, Type: q.Type, Class: q.Class, TTL: 1}
			switch {
			case q.Type == dnsmessage.TypeSRV && names[q.Name.String()] != "":
				for _, a := range rs.Addresses() {
					addr, err := net.ResolveTCPAddr("tcp", a)
					if err != nil {
						return
					}
					m.Answers = append(m.Answers, dnsmessage.Resource{Header: h, Body: &dnsmessage.SRVResource{
						Target: dnsmessage.MustNewName("member.meadow.example.test."), Port: uint16(addr.Port)}})
				}
			case q.Type == dnsmessage.TypeA && strings.HasPrefix(q.Name.String(), "member."):
				m.Answers = append(m.Answers, dnsmessage.Resource{Header: h,
					Body: &dnsmessage.AResource{A: [4]byte{127, 0, 0, 1}}})
			}
			if out, err := m.Pack(); err == nil {
				_, _ = dns.WriteTo(out, from)
			}
		}
	}()
	was := net.DefaultResolver
	t.Cleanup(func() { net.DefaultResolver = was })
	net.DefaultResolver = &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "udp", dns.LocalAddr().String())
	}}
	c, err := Driver{}.Open(t.Context(),
		engine.Target{Name: "meadow", Address: "mongodb+srv://meadow.example.test/?tls=false"})
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	top, err := c.Topology(t.Context())
	require.NoError(t, err)
	require.Len(t, top.Shards[0].Members, 3)
	_, err = clientOptions(engine.Target{Address: "mongodb://127.0.0.1:1/?loadBalanced=true"})
	require.ErrorContains(t, err, "one by one")
	o, err := clientOptions(engine.Target{Address: "mongodb://127.0.0.1:1/?authMechanism=PLAIN&authSource=$external",
		User: "ida", Secret: "clover"})
	require.NoError(t, err)
	require.Equal(t, "PLAIN", o.Auth.AuthMechanism)
}

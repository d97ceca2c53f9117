package servertest

import (
	"bufio"
	"fmt"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// PostOffice starts a mail server (SMTP, without TLS) that takes every letter.
func PostOffice(t testing.TB) (address string, letters chan string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	letters = make(chan string, 10)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				r := bufio.NewReader(conn)
				fmt.Fprint(conn, "220 lindenholt.example\r\n")
				for {
					line, err := r.ReadString('\n')
					if err != nil {
						return
					}
					switch strings.ToUpper(strings.Fields(line + " x")[0]) {
					case "DATA":
						fmt.Fprint(conn, "354 go on\r\n")
						var b strings.Builder
						for line, err = r.ReadString('\n'); err == nil &&
							line != ".\r\n"; line, err = r.ReadString('\n') {
							b.WriteString(line)
						}
						letters <- b.String()
						fmt.Fprint(conn, "250 taken\r\n")
					case "QUIT":
						fmt.Fprint(conn, "221 bye\r\n")
						return
					default:
						fmt.Fprint(conn, "250 fine\r\n")
					}
				}
			}()
		}
	}()
	return l.Addr().String(), letters
}

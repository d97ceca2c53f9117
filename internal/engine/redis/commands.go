package redis

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Which keys the commands of a replication stream name. What is not listed is
// carried out as a whole on a whole server, or refused.
var (
	oneKey = words(
		`SET SETNX SETEX PSETEX GETSET GETEX GETDEL APPEND SETRANGE SETBIT BITFIELD INCR DECR INCRBY DECRBY INCRBYFLOAT
		EXPIRE PEXPIRE EXPIREAT PEXPIREAT PERSIST RESTORE RESTORE-ASKING
		LPUSH RPUSH LPUSHX RPUSHX LINSERT LSET LTRIM LREM LPOP RPOP
		SADD SREM SPOP
		HSET HMSET HSETNX HINCRBY HINCRBYFLOAT HDEL
		ZADD ZINCRBY ZREM ZREMRANGEBYSCORE ZREMRANGEBYRANK ZREMRANGEBYLEX ZPOPMIN ZPOPMAX GEOADD
		PFADD XADD XTRIM XDEL XACK XCLAIM XAUTOCLAIM XSETID MOVE`)
	twoKeys  = words(`RENAME RENAMENX COPY RPOPLPUSH LMOVE BRPOPLPUSH BLMOVE SMOVE ZRANGESTORE GEOSEARCHSTORE`)
	allKeys  = words(`DEL UNLINK SINTERSTORE SUNIONSTORE SDIFFSTORE PFMERGE PFCOUNT`)
	pairKeys = words(`MSET MSETNX`)
	// countedKeys name a key, then a number, then so many others.
	countedKeys = words(`ZUNIONSTORE ZINTERSTORE ZDIFFSTORE`)
	// countedOnly name a number of keys, then those.
	countedOnly = words(`LMPOP ZMPOP`)
	dbWide      = words(`FLUSHDB`)
	wholeServer = words(`FLUSHALL SWAPDB`)
)

func words(s string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(s) {
		out[w] = true
	}
	return out
}

// width is how much a command without keys concerns.
type width int

const (
	notWide width = iota
	databaseWide
	serverWide
)

func wideCommand(verb string) width {
	switch {
	case dbWide[verb]:
		return databaseWide
	case wholeServer[verb]:
		return serverWide
	}
	return notWide
}

// slotsWord stands in a command of the log that concerns all of a server, and
// not all of a cluster, before the slots that the server had.
const slotsWord = "OF-SLOTS"

// withSlots adds to a command which slots it concerned.
func withSlots(args [][]byte, slots [][2]int) [][]byte {
	args = append(slices.Clone(args), []byte(slotsWord))
	for _, r := range slots {
		args = append(args, fmt.Appendf(nil, "%d-%d", r[0], r[1]))
	}
	return args
}

// slotsIn reports of a key whether a command of the log concerned its slot; one
// without slots concerned all.
func slotsIn(args [][]byte) (func(key []byte) bool, error) {
	i := slices.IndexFunc(args, func(a []byte) bool { return string(a) == slotsWord })
	if i < 0 {
		return func([]byte) bool { return true }, nil
	}
	var list [][2]int
	for _, a := range args[i+1:] {
		var r [2]int
		if n, err := fmt.Sscanf(string(a), "%d-%d", &r[0], &r[1]); err != nil || n != 2 {
			return nil, fmt.Errorf("%q are no slots", a)
		}
		list = append(list, r)
	}
	return func(key []byte) bool {
		s := slotOf(key)
		return slices.ContainsFunc(list, func(r [2]int) bool { return r[0] <= s && s <= r[1] })
	}, nil
}

// keysOf returns the places of a command's keys among its arguments; none for those
// that concern a database or the server. An error: it is not known.
func keysOf(args [][]byte) ([]int, error) {
	verb := strings.ToUpper(string(args[0]))
	bad := func() error { // made where it is one, as a log is many commands
		return fmt.Errorf("%s with %d arguments: which keys it writes is not known", verb, len(args)-1)
	}
	upto := func(from, to, step int) ([]int, error) {
		if to > len(args) || from >= to {
			return nil, bad()
		}
		var out []int
		for i := from; i < to; i += step {
			out = append(out, i)
		}
		return out, nil
	}
	counted := func(at int) ([]int, error) {
		if at >= len(args) {
			return nil, bad()
		}
		n, err := strconv.Atoi(string(args[at]))
		if err != nil || n < 1 || n > len(args) {
			return nil, bad()
		}
		return upto(at+1, at+1+n, 1)
	}
	switch {
	case oneKey[verb]:
		return upto(1, 2, 1)
	case twoKeys[verb]:
		return upto(1, 3, 1)
	case allKeys[verb]:
		return upto(1, len(args), 1)
	case pairKeys[verb]:
		return upto(1, len(args), 2)
	case countedKeys[verb]:
		list, err := counted(2)
		return append([]int{1}, list...), err
	case countedOnly[verb]:
		return counted(1)
	case wideCommand(verb) != notWide, verb == "FUNCTION", verb == "SCRIPT":
		return nil, nil
	}
	switch verb {
	case "XGROUP":
		return upto(2, 3, 1)
	case "BITOP":
		return upto(2, len(args), 1)
	case "EVAL", "EVALSHA", "FCALL":
		list, err := counted(2)
		if err != nil && len(args) > 2 && string(args[2]) == "0" {
			return nil, nil
		}
		return list, err
	case "SORT", "GEORADIUS", "GEORADIUSBYMEMBER":
		list, err := upto(1, 2, 1)
		for i := 2; i+1 < len(args); i++ {
			if w := strings.ToUpper(string(args[i])); w == "STORE" || w == "STOREDIST" {
				list = append(list, i+1)
			}
		}
		return list, err
	case "XREADGROUP":
		i := slices.IndexFunc(args, func(a []byte) bool { return strings.EqualFold(string(a), "STREAMS") })
		if i < 0 {
			return nil, bad()
		}
		return upto(i+1, i+1+(len(args)-i-1)/2, 1)
	}
	return nil, bad()
}

package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strconv"
	"time"

	goredis "github.com/redis/go-redis/v9"
	clientv3 "go.etcd.io/etcd/client/v3"
)

// Gateways is the configuration of the yards' gateways in willow, an etcd
// cluster: settings by gateway, routes, and who is on duty, which ends with a
// lease.
type Gateways struct {
	Seed     uint64
	Gateways int
}

var yardNames = []string{"north", "south", "heath", "orchard"}

// Fill writes the configuration.
func (g Gateways) Fill(ctx context.Context, cl *clientv3.Client) error {
	r := rand.New(rand.NewPCG(g.Seed, 21))
	lease, err := cl.Grant(ctx, 600)
	if err != nil {
		return err
	}
	for i := range g.Gateways {
		name := fmt.Sprintf("/gateways/%s-%03d/", yardNames[i%len(yardNames)], i)
		ops := []clientv3.Op{
			clientv3.OpPut(name+"address", fmt.Sprintf("10.20.%d.%d", i/250, i%250)),
			clientv3.OpPut(name+"interval", strconv.Itoa([]int{30, 60, 300}[r.IntN(3)])+"s"),
			clientv3.OpPut(name+"firmware", fmt.Sprintf("4.%d.%d", r.IntN(3), r.IntN(9))),
			clientv3.OpPut(fmt.Sprintf("/routes/%03d", i),
				fmt.Sprintf(`{"gateway":%d,"via":%d,"cost":%d}`, i, r.IntN(g.Gateways), 1+r.IntN(20))),
		}
		if i%10 == 0 {
			ops = append(ops, clientv3.OpPut("/duty/"+yardNames[i%len(yardNames)]+"/"+strconv.Itoa(i),
				"keeper "+strconv.Itoa(1+r.IntN(12)), clientv3.WithLease(lease.ID)))
		}
		if _, err := cl.Txn(ctx).Then(ops...).Commit(); err != nil {
			return err
		}
	}
	return nil
}

// Market is what the market stalls keep in bramble, a Redis server: orders
// waiting (lists), sales (streams with pickers), price boards (sorted sets), stalls
// (hashes), who sells what (sets), and baskets that expire.
type Market struct {
	Seed   uint64
	Stalls int
}

// Fill writes the market.
func (m Market) Fill(ctx context.Context, cl goredis.UniversalClient) error {
	r := rand.New(rand.NewPCG(m.Seed, 22))
	goods := []string{"acacia honey", "heather honey", "linden honey", "wax", "propolis", "pollen",
		"Lindenblütenhonig", "菩提樹蜂蜜"}
	_, err := cl.Pipelined(ctx, func(p goredis.Pipeliner) error {
		for i := range m.Stalls {
			tag := strconv.Itoa(i)
			p.HSet(ctx, "stalls:"+tag, "name", fmt.Sprintf("Stall %d", i), "yard", yardNames[i%len(yardNames)],
				"tables", 1+r.IntN(4))
			for range 1 + r.IntN(6) {
				good := goods[r.IntN(len(goods))]
				p.SAdd(ctx, "sells:"+tag, good)
				p.ZAdd(ctx, "prices:"+tag, goredis.Z{Score: float64(200+r.IntN(1500)) / 100, Member: good})
				p.RPush(ctx, "orders:"+tag, fmt.Sprintf("%d x %s", 1+r.IntN(9), good))
			}
			for j := range r.IntN(5) {
				p.XAdd(ctx, &goredis.XAddArgs{
					Stream: "sales:" + tag, ID: fmt.Sprintf("%d-%d", 1_790_000_000_000+int64(i), j), Values: []string{
						"good", goods[r.IntN(len(goods))], "eur", strconv.Itoa(3 + r.IntN(20))}})
			}
			if i%3 == 0 {
				p.Set(ctx, "baskets:"+tag, goods[r.IntN(len(goods))], time.Duration(1+r.IntN(5))*time.Hour)
			}
		}
		return nil
	})
	return err
}

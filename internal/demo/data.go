// Package demo makes the data and the mishap of the demonstration: the
// Lindenholt Beekeepers' Cooperative, made up for Dexamen.
package demo

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Apiary generates the database "apiary": the same for the same fields, every
// time and everywhere.
type Apiary struct {
	Seed uint64
	// Documents is about how many there are in all.
	Documents int
	// Plain leaves out the value types that not every server of the protocol
	// takes: decimals, symbols of the key order's ends, regular expressions.
	Plain bool
}

// Document is one generated document and the collection it belongs to.
type Document struct {
	Collection string
	Body       bson.D
}

// epoch is where the cooperative's made-up history begins.
var epoch = time.Date(2024, 3, 1, 6, 0, 0, 0, time.UTC)

var keepers = []string{"Annelie Brandt", "Jürgen Örtel", "Małgorzata Żak", "Дарья Пчёлкина", "蜂谷 美咲", "نحلة القاسمي",
	"Ωρίων Μελισσάς", "मधु शर्मा", "Siân O’Connell", "Þóra Flugudóttir", "벌꿀 지훈", "Ebony 🐝 Lacey"}

var yards = []string{"north", "north", "north", "lakeside", "orchard edge", "heath", "mill"}
var breeds = []string{"carnica", "buckfast", "mellifera", "ligustica", "caucasica"}
var plants = []string{"linden", "rape", "acacia", "heather", "chestnut", "sunflower", "clover", "borage"}
var words = strings.Fields("brood pattern even queen seen eggs in all stages two frames capped honey calm weather " +
	"mild few drones wax moth none varroa count low fed syrup added super swarm cell removed entrance busy pollen " +
	"yellow orange stores light requeened marked blue split united")

// counts returns the number of documents of each collection.
func (a Apiary) counts() (colonies, inspections, harvests, older, people int) {
	n := max(a.Documents, 20)
	colonies, harvests, older = n/10, n/8, n/12
	people = min(max(n/500, 6), 4000)
	return colonies, max(n-colonies-harvests-older-people, 1), harvests, older, people
}

// Each calls fn with every document, in a fixed order.
func (a Apiary) Each(fn func(Document) error) error {
	r := rand.New(rand.NewPCG(a.Seed, 0x1ee5))
	colonies, inspections, harvests, older, people := a.counts()
	for i := range people {
		if err := fn(Document{"keepers", a.keeper(r, i)}); err != nil {
			return err
		}
	}
	for i := range colonies {
		if err := fn(Document{"colonies", a.Colony(r, i)}); err != nil {
			return err
		}
	}
	for i := range inspections {
		if err := fn(Document{"inspections", a.inspection(r, i, colonies)}); err != nil {
			return err
		}
	}
	for i := range harvests {
		if err := fn(Document{"harvests", a.harvest(r, i, colonies, 2026)}); err != nil {
			return err
		}
	}
	for i := range older {
		if err := fn(Document{"harvests_2025", a.harvest(r, i, colonies, 2025)}); err != nil {
			return err
		}
	}
	return nil
}

// ColonyID names the i-th colony.
func ColonyID(i int) string {
	y := yards[i*7919%len(yards)]
	return fmt.Sprintf("%s-%05d", strings.ToUpper(y[:1]), i)
}

// keeper has an _id of another type each: keepers registered through many
// hands over the years.
func (a Apiary) keeper(r *rand.Rand, i int) bson.D {
	name := keepers[i%len(keepers)]
	var id any
	switch i % 8 {
	case 0:
		id = int32(i)
	case 1:
		id = fmt.Sprintf("keeper-%d", i)
	case 2:
		id = objectID(r, i)
	case 3:
		id = int64(i) << 33
	case 4:
		id = float64(i) + 0.25
	case 5:
		id = bson.NewDateTimeFromTime(epoch.AddDate(0, 0, i))
	case 6:
		id = bson.Binary{Subtype: 4, Data: bytesOf(r, 16)}
	case 7:
		id = bson.D{{Key: "branch", Value: int32(i % 5)}, {Key: "no", Value: int32(i)}}
	}
	d := bson.D{{Key: "_id", Value: id}, {Key: "name", Value: name}, {Key: "member", Value: fmt.Sprintf("LBC-%05d", i)},
		{Key: "since", Value: bson.NewDateTimeFromTime(epoch.AddDate(-i%30, 0, i%300))},
		{Key: "active", Value: i%9 != 0},
		{Key: "left", Value: nil}, {Key: "badge", Value: bson.Binary{Subtype: 0, Data: bytesOf(r, 24)}}}
	if !a.Plain {
		fee, _ := bson.ParseDecimal128(fmt.Sprintf("%d.%02d", 20+i%60, i%100))
		d = append(d, bson.E{Key: "fee", Value: fee},
			bson.E{Key: "mail", Value: bson.Regex{Pattern: "^" + strings.ToLower(name[:2]), Options: "i"}},
			bson.E{Key: "oldest", Value: bson.MinKey{}}, bson.E{Key: "newest", Value: bson.MaxKey{}})
	}
	return d
}

// Colony is the i-th colony.
func (a Apiary) Colony(r *rand.Rand, i int) bson.D {
	id := ColonyID(i)
	yard := yards[i*7919%len(yards)]
	boxes := bson.A{}
	for b := range 1 + r.IntN(4) {
		boxes = append(boxes, bson.D{{Key: "no", Value: int32(b + 1)}, {Key: "frames", Value: int32(8 + r.IntN(4))},
			{Key: "kg", Value: float64(r.IntN(4000)) / 100}})
	}
	return bson.D{{Key: "_id", Value: id}, {Key: "yard", Value: yard},
		{Key: "breed", Value: breeds[r.IntN(len(breeds))]}, {Key: "status", Value: "thriving"},
		{Key: "queen", Value: bson.D{{Key: "year", Value: int32(2022 + r.IntN(5))},
			{Key: "marked", Value: r.IntN(3) > 0}, {Key: "origin", Value: nil}}},
		{Key: "boxes", Value: boxes}, {Key: "at",
			Value: bson.D{{Key: "type", Value: "Point"},
				{Key: "coordinates", Value: bson.A{9 + r.Float64(), 51 + r.Float64()}}}},
		{Key: "weight", Value: 20 + r.Float64()*30},
		{Key: "seen", Value: bson.Timestamp{T: uint32(epoch.Unix()) + uint32(i), I: 1}}}
}

// inspection is mostly short; one in a thousand carries a long protocol.
func (a Apiary) inspection(r *rand.Rand, i, colonies int) bson.D {
	n := 4 + r.IntN(20)
	switch {
	case i%1000 == 7:
		n = 3000 + r.IntN(6000)
	case i%40 == 3:
		n = 150 + r.IntN(300)
	}
	var note strings.Builder
	for k := range n {
		if k > 0 {
			note.WriteByte(' ')
		}
		note.WriteString(words[r.IntN(len(words))])
	}
	at := epoch.Add(time.Duration(i) * 97 * time.Second)
	d := bson.D{{Key: "_id", Value: objectID(r, i)},
		{Key: "colony", Value: ColonyID(int(float64(colonies) * r.Float64() * r.Float64()))},
		{Key: "at", Value: bson.NewDateTimeFromTime(at)}, {Key: "keeper", Value: keepers[r.IntN(len(keepers))]},
		{Key: "note", Value: note.String()}}
	if r.IntN(3) == 0 {
		var counts bson.A
		for range r.IntN(6) {
			counts = append(counts, int32(r.IntN(30)))
		}
		d = append(d, bson.E{Key: "varroa",
			Value: bson.D{{Key: "counts", Value: counts}, {Key: "treated", Value: r.IntN(2) == 0}}})
	}
	return d
}

func (a Apiary) harvest(r *rand.Rand, i, colonies, year int) bson.D {
	at := time.Date(year, 5, 1, 8, 0, 0, 0, time.UTC).Add(time.Duration(i) * 53 * time.Second)
	return bson.D{{Key: "_id", Value: int64(year)<<32 | int64(i)},
		{Key: "batch", Value: fmt.Sprintf("%d-%06d", year, i)},
		{Key: "colony", Value: ColonyID(r.IntN(max(colonies, 1)))}, {Key: "at", Value: bson.NewDateTimeFromTime(at)},
		{Key: "kg", Value: float64(r.IntN(3000)) / 100},
		{Key: "plants", Value: bson.A{plants[r.IntN(len(plants))], plants[r.IntN(len(plants))]}},
		{Key: "water", Value: 15 + r.Float64()*4},
		{Key: "jars", Value: int32(r.IntN(60))}, {Key: "lot", Value: r.Int64()}}
}

// objectID is made of the seed, in ascending order with i.
func objectID(r *rand.Rand, i int) bson.ObjectID {
	var id bson.ObjectID
	t := uint32(epoch.Unix()) + uint32(i)
	id[0], id[1], id[2], id[3] = byte(t>>24), byte(t>>16), byte(t>>8), byte(t)
	copy(id[4:], bytesOf(r, 8))
	return id
}

func bytesOf(r *rand.Rand, n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.UintN(256))
	}
	return b
}

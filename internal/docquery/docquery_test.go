package docquery_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/docquery"
)

func raw(t testing.TB, text string) bson.Raw {
	var d bson.D
	require.NoError(t, bson.UnmarshalExtJSON([]byte(text), false, &d), text)
	b, err := bson.Marshal(d)
	require.NoError(t, err)
	return b
}

// TestFilters holds filters to what the public documentation says of them. Each line is a
// filter, and of some documents those that fit.
func TestFilters(t *testing.T) {
	docs := strings.Split(strings.TrimSpace(`
{"_id":0,"a":1}
{"_id":1,"a":[1,2,3]}
{"_id":2,"a":{"b":1}}
{"_id":3,"a":[{"b":1},{"b":5},{}]}
{"_id":4,"a":null}
{"_id":5}
{"_id":6,"a":"calm","s":["x","y"]}
{"_id":7,"a":[]}
{"_id":8,"a":[[1,2],3]}
{"_id":9,"a":{"$numberDouble":"NaN"}}
{"_id":10,"a":{"$numberLong":"7"},"z":{"$numberDecimal":"7.5"}}
{"_id":11,"a":[{"b":2,"c":1},{"b":1,"c":9}]}
{"_id":12,"a":{"$regularExpression":{"pattern":"^c","options":""}}}
{"_id":13,"a":-7}`), "\n")
	for filter, want := range map[string]string{
		`{}`:                                     "0 1 2 3 4 5 6 7 8 9 10 11 12 13",
		`{"a":1}`:                                "0 1",
		`{"a":1.0}`:                              "0 1",
		`{"a":{"b":1}}`:                          "2 3",
		`{"a":[1,2]}`:                            "8",
		`{"a":[1,2,3]}`:                          "1",
		`{"a":null}`:                             "4 5",
		`{"a.b":null}`:                           "0 3 4 5 6 9 10 12 13",
		`{"a.b":1}`:                              "2 3 11",
		`{"a.1.b":5}`:                            "3",
		`{"a.0":1}`:                              "1 8",
		`{"a.0.0":1}`:                            "8",
		`{"a":{"$gt":2}}`:                        "1 8 10",
		`{"a":{"$gte":2,"$lt":3}}`:               "1",
		`{"a":{"$lt":2}}`:                        "0 1 13",
		`{"a":{"$ne":1}}`:                        "2 3 4 5 6 7 8 9 10 11 12 13",
		`{"a":{"$ne":null}}`:                     "0 1 2 3 6 7 8 9 10 11 12 13",
		`{"a":{"$in":[1,"calm"]}}`:               "0 1 6",
		`{"a":{"$in":[null]}}`:                   "4 5",
		`{"a":{"$nin":[1,null]}}`:                "2 3 6 7 8 9 10 11 12 13",
		`{"a":{"$exists":true}}`:                 "0 1 2 3 4 6 7 8 9 10 11 12 13",
		`{"a.b":{"$exists":false}}`:              "0 1 4 5 6 7 8 9 10 12 13",
		`{"a":{"$size":0}}`:                      "7",
		`{"a":{"$size":2}}`:                      "8 11",
		`{"a":{"$all":[1,3]}}`:                   "1",
		`{"a":{"$all":[1]}}`:                     "0 1",
		`{"a":{"$all":[]}}`:                      "",
		`{"a":{"$elemMatch":{"$gt":1,"$lt":3}}}`: "1",
		`{"a":{"$elemMatch":{"b":1,"c":9}}}`:     "11",
		`{"a.b":2,"a.c":9}`:                      "11",
		`{"a":{"$elemMatch":{"b":2,"c":9}}}`:     "",
		`{"a":{"$all":[{"$elemMatch":{"b":1}},{"$elemMatch":{"b":5}}]}}`: "3",
		`{"a":{"$type":"array"}}`:            "1 3 7 8 11",
		`{"a":{"$type":"number"}}`:           "0 1 8 9 10 13",
		`{"a":{"$type":["null","string"]}}`:  "4 6",
		`{"a":{"$type":16}}`:                 "0 1 8 13",
		`{"a":{"$mod":[4,3]}}`:               "1 8 10",
		`{"a":{"$bitsAllSet":7}}`:            "10",
		`{"a":{"$bitsAllSet":[0]}}`:          "0 1 8 10 13",
		`{"a":{"$bitsAnyClear":[0,1]}}`:      "0 1 13",
		`{"a":{"$bitsAllClear":[1,2]}}`:      "0 1 13",
		`{"a":{"$bitsAnySet":[63,200]}}`:     "13",
		`{"$jsonSchema":{"required":["s"]}}`: "6",
		`{"$jsonSchema":{"required":["a"],"properties":{"a":{"bsonType":["int","long"],"minimum":1,"exclusiveMinimum":true}}}}`:                                  "10",
		`{"$jsonSchema":{"properties":{"a":{"bsonType":"array","minItems":1,"items":{"bsonType":"object","required":["b"]}}},"required":["a"]}}`:                 "11",
		`{"$jsonSchema":{"properties":{"a":{"enum":[1,"calm",{"b":1}]}},"required":["a"]}}`:                                                                      "0 2 6",
		`{"$jsonSchema":{"additionalProperties":false,"properties":{"_id":{},"a":{}},"not":{"required":["a"]}}}`:                                                 "5",
		`{"$jsonSchema":{"patternProperties":{"^[sz]$":{"type":"array","uniqueItems":true}},"dependencies":{"a":["s"]}}}`:                                        "5 6",
		`{"$jsonSchema":{"properties":{"a":{"oneOf":[{"type":"string","pattern":"^c","maxLength":4},{"type":"null"}]}},"required":["a"]}}`:                       "4 6",
		`{"$jsonSchema":{"properties":{"a":{"items":[{"type":"array"}],"additionalItems":{"type":"number"},"bsonType":"array","minItems":1}},"required":["a"]}}`: "8",
		`{"$jsonSchema":{"properties":{"z":{"multipleOf":{"$numberDecimal":"2.5"}}},"required":["z"],"minProperties":3}}`:                                        "10",
		`{"a":{"$mod":[4,-3]}}`:                                               "13",
		`{"z":{"$mod":[4,3]}}`:                                                "10",
		`{"a":{"$regex":"^C","$options":"i"}}`:                                "6",
		`{"a":{"$regularExpression":{"pattern":"^c","options":""}}}`:          "6 12",
		`{"a":{"$not":{"$gt":0}}}`:                                            "2 3 4 5 6 7 9 11 12 13",
		`{"a":{"$not":{"$regularExpression":{"pattern":"^c","options":""}}}}`: "0 1 2 3 4 5 7 8 9 10 11 13",
		`{"a":{"$numberDouble":"NaN"}}`:                                       "9",
		`{"a":{"$gte":{"$numberDouble":"NaN"}}}`:                              "9",
		`{"a":{"$lte":null}}`:                                                 "4 5",
		`{"$or":[{"a":1},{"s":"y"}]}`:                                         "0 1 6",
		`{"$nor":[{"a":{"$exists":true}}]}`:                                   "5",
		`{"$and":[{"a":1},{"a":3}]}`:                                          "1",
		`{"z":7.5}`:                                                           "10",
		`{"z":{"$gt":7,"$lt":8}}`:                                             "10",
		`{"$expr":{"$eq":["$a","$_id"]}}`:                                     "",
		`{"$expr":{"$gt":["$a",{"$literal":"a"}]}}`:                           "1 2 3 6 7 8 11 12",
		`{"s":{"$gt":"x"}}`:                                                   "6",
		`{"_id":{"$in":[3,5,99]}}`:                                            "3 5",
		`{"a":{"$eq":{"b":1}},"$comment":"why"}`:                              "2 3",
	} {
		f, err := docquery.CompileFilter(raw(t, filter))
		require.NoError(t, err, filter)
		var got []string
		for i, d := range docs {
			ok, err := f.Fits(raw(t, d))
			require.NoError(t, err, filter)
			if ok {
				got = append(got, fmt.Sprint(i))
			}
		}
		require.Equal(t, want, strings.Join(got, " "), filter)
	}
}

// TestMalformed: what is not understood is refused, also where no document is met.
func TestMalformed(t *testing.T) {
	for filter, says := range map[string]string{
		`{"$where":"x"}`: "$where", `{"a":{"$near":1}}`: "$near", `{"a":{"$gtt":1}}`: "unknown operator: $gtt",
		`{"$foo":1}`: "unknown top level operator", `{"a":{"$in":1}}`: "$in needs an array", `{"$or":[]}`: "nonempty",
		`{"$or":{}}`: "array", `{"a":{"$mod":[0,1]}}`: "divisor", `{"a":{"$mod":[1]}}`: "malformed mod",
		`{"a":{"$size":-1}}`: "non-negative", `{"a":{"$type":"strin"}}`: "alias: strin",
		`{"a":{"$type":[]}}`: "at least one",
		`{"a":{"$type":77}}`: "Invalid numerical", `{"a":{"$regex":"("}}`: "invalid",
		`{"a":{"$regex":"a","$options":"q"}}`: "flag",
		`{"a":{"$regex":"(?=a)"}}`:            "not evaluated here", `{"a":{"$options":"i"}}`: "needs a $regex",
		`{"a":{"$not":1}}`: "$not", `{"a":{"$elemMatch":1}}`: "Object", `{"a":{"$all":1}}`: "array",
		`{"$expr":{"$frob":1}}`: "$frob", `{"a":{"$in":[{"$gt":1}]}}`: "cannot nest",
		`{"a":{"$gt":1,"b":2}}`:      "unknown operator: b",
		`{"$jsonSchema":{"frob":1}}`: "frob", `{"$jsonSchema":{"properties":{"a":{"$ref":"x"}}}}`: "$ref",
		`{"$jsonSchema":{"required":[]}}`: "required", `{"$jsonSchema":{"exclusiveMinimum":true}}`: "minimum",
		`{"$jsonSchema":{"type":"frob"}}`: "frob", `{"a":{"$bitsAllSet":-1}}`: "not negative",
		`{"$jsonSchema":7}`: "$jsonSchema",
	} {
		_, err := docquery.CompileFilter(raw(t, filter))
		require.ErrorContains(t, err, says, filter)
		var e *docquery.Error
		require.ErrorAs(t, err, &e, filter)
		require.NotZero(t, e.Code)
	}
	for stage, says := range map[string]string{`{"$frob":1}`: "$frob", `{"$match":{},"$sort":{}}`: "exactly one field",
		`{"$group":{"a":1}}`: "accumulator", `{"$group":{"n":{"$sum":1}}}`: "_id", `{"$limit":0}`: "$limit",
		`{"$sort":{"a":2}}`: "1 (for ascending)", `{"$project":{}}`: "at least one", `{"$unwind":"a"}`: "prefixed",
		`{"$project":{"a":1,"b":0}}`: "exclusion", `{"$project":{"a":1,"a.b":1}}`: "collision",
		`{"$count":""}`:                          "non-empty",
		`{"$lookup":{"from":"x","pipeline":[]}}`: "pipeline", `{"$project":{"a":{"$cond":[1]}}}`: "exactly 3",
		`{"$addFields":{"a":{"$add":1,"$x":2}}}`: "exactly one field", `{"$sample":{"size":"x"}}`: "number"} {
		_, err := docquery.CompilePipeline([]bson.RawValue{{Type: bson.TypeEmbeddedDocument, Value: raw(t, stage)}},
			nil)
		require.ErrorContains(t, err, says, stage)
	}
}

// TestProjections holds projections to the public documentation.
func TestProjections(t *testing.T) {
	doc := raw(t, `{"a":1,"_id":7,"b":{"c":2,"d":3},"e":[{"f":1,"g":2},{"f":3},4,[{"f":9}]],"h":[1,2,3,4,5]}`)
	for spec, want := range map[string]string{
		`{}`:                                     `{"a":1,"_id":7,"b":{"c":2,"d":3},"e":[{"f":1,"g":2},{"f":3},4,[{"f":9}]],"h":[1,2,3,4,5]}`,
		`{"a":1}`:                                `{"_id":7,"a":1}`,
		`{"_id":0,"a":1}`:                        `{"a":1}`,
		`{"_id":1}`:                              `{"_id":7}`,
		`{"_id":0}`:                              `{"a":1,"b":{"c":2,"d":3},"e":[{"f":1,"g":2},{"f":3},4,[{"f":9}]],"h":[1,2,3,4,5]}`,
		`{"e":0,"h":0}`:                          `{"a":1,"_id":7,"b":{"c":2,"d":3}}`,
		`{"b.c":1}`:                              `{"_id":7,"b":{"c":2}}`,
		`{"b":{"c":1}}`:                          `{"_id":7,"b":{"c":2}}`,
		`{"b.c":0,"h":0,"e":0}`:                  `{"a":1,"_id":7,"b":{"d":3}}`,
		`{"e.f":1}`:                              `{"_id":7,"e":[{"f":1},{"f":3},[{"f":9}]]}`,
		`{"e.f":0,"h":0,"b":0}`:                  `{"a":1,"_id":7,"e":[{"g":2},{},4,[{}]]}`,
		`{"h":{"$slice":2},"_id":1,"e":0,"b":0}`: `{"a":1,"_id":7,"h":[1,2]}`,
		`{"h":{"$slice":-2},"a":1}`:              `{"_id":7,"a":1,"h":[4,5]}`,
		`{"h":{"$slice":[1,2]},"a":1}`:           `{"_id":7,"a":1,"h":[2,3]}`,
		`{"h":{"$slice":[-4,2]},"a":1}`:          `{"_id":7,"a":1,"h":[2,3]}`,
		`{"e":{"$elemMatch":{"f":3}}}`:           `{"_id":7,"e":[{"f":3}]}`,
		`{"h":{"$elemMatch":{"$gt":3}}}`:         `{"_id":7,"h":[4]}`,
		`{"x":{"$add":["$a","$b.c"]},"a":1}`:     `{"_id":7,"a":1,"x":3}`,
		`{"a":"$b.d","b":1}`:                     `{"_id":7,"b":{"c":2,"d":3},"a":3}`,
		`{"nothing":1}`:                          `{"_id":7}`,
	} {
		p, err := docquery.CompileProjection(raw(t, spec), nil)
		require.NoError(t, err, spec)
		got, err := p.Apply(doc)
		require.NoError(t, err, spec)
		text, err := bson.MarshalExtJSON(got, false, false)
		require.NoError(t, err)
		require.Equal(t, want, string(text), spec)
	}
	for spec, says := range map[string]string{
		`{"a":1,"b":0}`: "exclusion", `{"e.$":1}`: "positional", `{"a":{"$meta":"x"}}`: "$meta",
		`{"a":{"$frob":1}}`: "$frob", `{"a":1,"a.b":1}`: "collision", `{"a..b":1}`: "empty string",
		`{"h":{"$slice":"x"}}`: "$slice"} {
		_, err := docquery.CompileProjection(raw(t, spec), nil)
		require.ErrorContains(t, err, says, spec)
	}
}

// TestPositionalProjections holds projections of the first element that fits to the public
// documentation ("$ (projection)").
func TestPositionalProjections(t *testing.T) {
	doc := raw(t, `{"_id":1,"grades":[70,87,90],"by":{"year":[{"y":1,"kg":5},{"y":2,"kg":9}]},"other":1}`)
	for _, x := range [][3]string{
		{`{"grades":{"$gte":85}}`, `{"grades.$":1}`, `{"_id":1,"grades":[87]}`},
		{`{"grades":90}`, `{"grades.$":1,"other":1}`, `{"_id":1,"grades":[90],"other":1}`},
		{`{"by.year.kg":{"$gt":6}}`, `{"by.year.$":1,"_id":0}`, `{"by":{"year":[{"y":2,"kg":9}]}}`},
		{`{"by.year":{"$elemMatch":{"kg":{"$gt":3},"y":{"$gt":1}}},"other":1}`, `{"by.year.$":1,"_id":0}`,
			`{"by":{"year":[{"y":2,"kg":9}]}}`},
		{`{"$and":[{"other":1},{"grades":{"$lt":80}}]}`, `{"grades.$":1}`, `{"_id":1,"grades":[70]}`}} {
		p, err := docquery.CompileProjection(raw(t, x[1]), raw(t, x[0]))
		require.NoError(t, err, x)
		got, err := p.Apply(doc)
		require.NoError(t, err)
		text, err := bson.MarshalExtJSON(got, false, false)
		require.NoError(t, err)
		require.Equal(t, x[2], string(text), x)
	}
	for _, x := range [][3]string{{`{}`, `{"grades.$":1}`, "couldn't find"},
		{`{"grades":1}`, `{"grades.$":0}`, "exclusion"},
		{`{"grades":1,"other":{"$gt":1}}`, `{"grades.$":1,"other.$":1}`, "more than one"},
		{`{"by.year.y":1,"by.year.kg":2}`, `{"by.year.$":1}`, "several things"},
		{`{"$or":[{"grades":1},{"other":1}]}`, `{"grades.$":1}`, "beside $or"},
		{`{"grades":1}`, `{"grades.$.x":1}`, "end of a path"}} {
		_, err := docquery.CompileProjection(raw(t, x[1]), raw(t, x[0]))
		require.ErrorContains(t, err, x[2], x)
	}
}

// TestPipelines holds aggregations to the public documentation.
func TestPipelines(t *testing.T) {
	var docs []bson.Raw
	for _, d := range []string{
		`{"_id":1,"yard":"north","kg":10,"tags":["a","b"],"at":{"$date":"2026-05-03T10:20:30Z"}}`,
		`{"_id":2,"yard":"south","kg":2.5,"tags":[]}`, `{"_id":3,"yard":"north","kg":{"$numberLong":"5"},"tags":"c"}`,
		`{"_id":4,"kg":{"$numberDecimal":"0.1"}}`, `{"_id":5,"yard":null,"kg":2147483647,"tags":["b"]}`} {
		docs = append(docs, raw(t, d))
	}
	in := func(fn func(bson.Raw) (bool, error)) error {
		for _, d := range docs {
			if more, err := fn(d); err != nil || !more {
				return err
			}
		}
		return nil
	}
	sources := func(name string) (docquery.Documents, error) {
		require.Equal(t, "yards", name)
		return func(fn func(bson.Raw) (bool, error)) error {
			for _, d := range []string{`{"_id":"north","keeper":"Ada"}`, `{"_id":"south"}`, `{"_id":null}`} {
				if more, err := fn(raw(t, d)); err != nil || !more {
					return err
				}
			}
			return nil
		}, nil
	}
	for pipeline, want := range map[string]string{
		`[{"$match":{"yard":"north"}},{"$project":{"kg":1}}]`: `{"_id":1,"kg":10} {"_id":3,"kg":5}`,
		`[{"$group":{"_id":"$yard","n":{"$sum":1},"kg":{"$sum":"$kg"}}},{"$sort":{"n":-1,"_id":1}}]`: `{"_id":null,"n":2,"kg":{"$numberDecimal":"2147483647.1"}} ` +
			`{"_id":"north","n":2,"kg":15} {"_id":"south","n":1,"kg":2.5}`,
		`[{"$group":{"_id":null,"max":{"$max":"$kg"},"first":{"$first":"$_id"},"all":{"$push":"$_id"}}}]`:                                                 `{"_id":null,"max":2147483647,"first":1,"all":[1,2,3,4,5]}`,
		`[{"$match":{"_id":{"$in":[1,5]}}},{"$group":{"_id":1,"s":{"$sum":"$kg"},"a":{"$avg":"$_id"}}}]`:                                                  `{"_id":1,"s":2147483657,"a":3.0}`,
		`[{"$unwind":"$tags"},{"$project":{"tags":1}}]`:                                                                                                   `{"_id":1,"tags":"a"} {"_id":1,"tags":"b"} {"_id":3,"tags":"c"} {"_id":5,"tags":"b"}`,
		`[{"$unwind":{"path":"$tags","preserveNullAndEmptyArrays":true,"includeArrayIndex":"i"}},{"$project":{"tags":1,"i":1}},{"$skip":2},{"$limit":2}]`: `{"_id":2,"i":null} {"_id":3,"tags":"c","i":null}`,
		`[{"$match":{"yard":"east"}},{"$count":"n"}]`:                                                                                                     ``,
		`[{"$count":"n"}]`:                        `{"n":5}`,
		`[{"$sortByCount":"$yard"},{"$limit":1}]`: `{"_id":"north","count":2}`,
		`[{"$limit":1},{"$addFields":{"y":{"$year":"$at"},"kg":{"$multiply":["$kg",2]},"a.b":1}},{"$unset":["tags","at"]}]`:                                                                                                                                           `{"_id":1,"yard":"north","kg":20,"y":2026,"a":{"b":1}}`,
		`[{"$limit":1},{"$replaceRoot":{"newRoot":{"k":"$yard","n":{"$size":"$tags"}}}}]`:                                                                                                                                                                             `{"k":"north","n":2}`,
		`[{"$facet":{"a":[{"$limit":1},{"$project":{"_id":1}}],"b":[{"$count":"n"}]}}]`:                                                                                                                                                                               `{"a":[{"_id":1}],"b":[{"n":5}]}`,
		`[{"$lookup":{"from":"yards","localField":"yard","foreignField":"_id","as":"y"}},{"$match":{"_id":{"$gt":2}}},{"$project":{"y":1}}]`:                                                                                                                          `{"_id":3,"y":[{"_id":"north","keeper":"Ada"}]} {"_id":4,"y":[{"_id":null}]} {"_id":5,"y":[{"_id":null}]}`,
		`[{"$limit":2},{"$project":{"_id":0,"x":{"$cond":[{"$gt":["$kg",5]},"heavy",{"$concat":["light ","$yard"]}]}}}]`:                                                                                                                                              `{"x":"heavy"} {"x":"light south"}`,
		`[{"$limit":1},{"$project":{"_id":0,"x":{"$map":{"input":"$tags","as":"t","in":{"$toUpper":"$$t"}}},"y":{"$filter":{"input":"$tags","cond":{"$eq":["$$this","b"]}}},"z":{"$reduce":{"input":[1,2,3],"initialValue":0,"in":{"$add":["$$value","$$this"]}}}}}]`: `{"x":["A","B"],"y":["b"],"z":6}`,
		`[{"$limit":1},{"$project":{"_id":0,"a":{"$divide":[7,2]},"b":{"$mod":[-7,3]},"c":{"$subtract":[{"$literal":{"$numberLong":"9223372036854775807"}},-1]},"d":{"$ifNull":["$q","none"]},"e":{"$type":"$q"},"f":{"$arrayElemAt":["$tags",-1]}}}]`:                `{"a":3.5,"b":-1,"c":9.223372036854776E+18,"d":"none","e":"missing","f":"b"}`,
		`[{"$group":{"_id":{"y":"$yard"},"n":{"$count":{}}}},{"$match":{"n":{"$gt":1}}}]`:                                                                                                                                                                             `{"_id":{"y":"north"},"n":2}`,
		`[{"$match":{"tags":{"$exists":true}}},{"$sort":{"tags":1}},{"$project":{"_id":1}}]`:                                                                                                                                                                          `{"_id":2} {"_id":1} {"_id":5} {"_id":3}`,
		`[{"$match":{"tags":{"$exists":true}}},{"$sort":{"tags":-1}},{"$project":{"_id":1}}]`:                                                                                                                                                                         `{"_id":3} {"_id":1} {"_id":5} {"_id":2}`,
	} {
		var spec struct{ P []bson.RawValue }
		require.NoError(t, bson.Unmarshal(raw(t, `{"p":`+pipeline+`}`), &spec), pipeline)
		p, err := docquery.CompilePipeline(spec.P, sources)
		require.NoError(t, err, pipeline)
		var got []string
		require.NoError(t, p.Run(in, func(d bson.Raw) (bool, error) {
			text, err := bson.MarshalExtJSON(d, false, false)
			got = append(got, string(text))
			return true, err
		}), pipeline)
		require.Equal(t, want, strings.Join(got, " "), pipeline)
	}
}

// FuzzQueries: whatever is asked, it is answered or refused.
func FuzzQueries(f *testing.F) {
	for _, s := range []string{`{"a":{"$gt":1}}`, `{"$expr":{"$add":["$a",1]}}`,
		`{"$group":{"_id":"$a","n":{"$sum":"$b"}}}`,
		`{"a.b":{"$elemMatch":{"c":1}}}`, `{"$project":{"a.b":1,"c":{"$slice":["$a",1]}}}`, `{"$unwind":"$a.b"}`} {
		f.Add(s, `{"a":[{"b":1},{"b":[1,2]}],"b":2.5}`)
	}
	f.Fuzz(func(t *testing.T, query, doc string) {
		stuck := time.AfterFunc(10*time.Second, func() { panic(query + " takes too long on " + doc) })
		defer stuck.Stop()
		var q, d bson.D
		if bson.UnmarshalExtJSON([]byte(query), false, &q) != nil ||
			bson.UnmarshalExtJSON([]byte(doc), false, &d) != nil {
			return
		}
		rq, err1 := bson.Marshal(q)
		rd, err2 := bson.Marshal(d)
		if err1 != nil || err2 != nil {
			return
		}
		if x, err := docquery.CompileFilter(rq); err == nil {
			_, _ = x.Fits(rd)
		}
		if x, err := docquery.CompileProjection(rq, nil); err == nil {
			_, _ = x.Apply(rd)
		}
		if x, err := docquery.CompileSort(rq); err == nil {
			x.Order([]bson.Raw{rd, rq})
		}
		v := []bson.RawValue{{Type: bson.TypeEmbeddedDocument, Value: rq}}
		p, err := docquery.CompilePipeline(v, func(string) (docquery.Documents, error) {
			return func(fn func(bson.Raw) (bool, error)) error { _, err := fn(rd); return err }, nil
		})
		if err != nil {
			return
		}
		_ = p.Run(func(fn func(bson.Raw) (bool, error)) error { _, err := fn(rd); return err },
			func(d bson.Raw) (bool, error) { return d.Validate() == nil, d.Validate() })
	})
}

package tour

import (
	"fmt"
	"net/http"
	"os"
	"strings"
	"time"

	"dexamen/internal/demo"
	"dexamen/internal/sim/searchsim"
)

// clover is the part of the demonstration on a search cluster.
func (p *Tour) clover() error {
	c, err := searchsim.Start(searchsim.Options{Name: "clover"})
	if err != nil {
		return err
	}
	p.ends = append(p.ends, c.Close)
	now := time.Now()
	notes := demo.Fieldnotes{Seed: 1, Days: 4, Until: now, Notes: max(60, p.Documents/40)}
	if err := notes.Fill(p.ctx, c.URL()); err != nil {
		return err
	}
	day := func(back int) string { return notes.Index(now.AddDate(0, 0, -back)) }
	request := func(method, path, body string) error { return notes.Request(p.ctx, c.URL(), method, path, body) }
	err = p.register(fmt.Sprintf("  clover:\n    address: search+http://%s\n    options: { quiesce: write-block }\n"+
		"    cluster_wide: true\n    store: larder\n", c.Addresses()[0]))
	if err != nil {
		return err
	}
	p.say(
		"Search clusters: clover, three nodes, has the keepers' field notes, an index a day. It keeps no log; writes " +
			"are held back for the moment in which readers of all shards are opened.")
	for _, line := range []string{"cluster inspect clover", "snapshot clover"} {
		if err := p.do(done, strings.Fields(line)...); err != nil {
			return err
		}
	}
	p.say("Work goes on: a few notes more, one corrected, one deleted. The next point reads only that.")
	for i := range 20 {
		if err := request(http.MethodPut, fmt.Sprintf("/%s/_doc/new-%d", day(0), i),
			fmt.Sprintf(`{"at":%q,"keeper":"Annelie Brandt","hive":%d,"note":"queen seen"}`, now.Format(time.RFC3339),
				i)); err != nil {
			return err
		}
	}
	if err := request(http.MethodPut, "/"+day(0)+"/_doc/"+now.Format("0102")+"-0001",
		`{"note":"corrected"}`); err != nil {
		return err
	}
	if err := request(http.MethodDelete, "/"+day(1)+"/_doc/"+now.AddDate(0, 0, -1).Format("0102")+"-0003",
		""); err != nil {
		return err
	}
	if err := p.do(done, "snapshot", "clover"); err != nil {
		return err
	}
	p.say("Somebody means last month's index and deletes %s; a script spoils three notes of yesterday.", day(2))
	if err := request(http.MethodDelete, "/"+day(2), ""); err != nil {
		return err
	}
	for i := range 3 {
		id := fmt.Sprintf("%s-%04d", now.AddDate(0, 0, -1).Format("0102"), 10+i)
		if err := request(http.MethodPut, "/"+day(1)+"/_doc/"+id+"?refresh=true", `{"note":"?","hive":0}`); err != nil {
			return err
		}
	}
	if err := p.do(differs, "compare", "clover@latest/fieldnotes-*", "clover@live", "--show", "3"); err != nil {
		return err
	}
	p.say("The index comes back with its mapping, analyzer and alias; yesterday's is put in the place of the " +
		"spoiled one.")
	for _, line := range []string{"restore clover@latest/" + day(2) + " --also " + day(1) + " --conflict replace --yes",
		"verify clover@latest/fieldnotes-* --live clover"} {
		if err := p.do(done, strings.Fields(line)...); err != nil {
			return err
		}
	}
	err = p.addPolicy(`  fieldnotes:
    clusters: [clover]
    store: larder
    namespaces: ["fieldnotes-%Y.%m.%d on -1d"]
    snapshot: "20 0 * * *"
    full_read: every 7d
    keep:
      thin: [daily for 30d]
      never_fewer: 3
`)
	if err != nil {
		return err
	}
	p.say("A policy for daily indices: each night yesterday's is protected once, for 30 days.")
	return p.do(done, "policy", "preview", "fieldnotes")
}

// addPolicy adds a policy to the configuration.
func (p *Tour) addPolicy(text string) error {
	was, err := os.ReadFile(p.config)
	if err != nil {
		return err
	}
	return os.WriteFile(p.config, []byte(strings.Replace(string(was), "policies:\n", "policies:\n"+text, 1)), 0o600)
}

// addSection puts a section of its own into the configuration.
func (p *Tour) addSection(text string) error {
	was, err := os.ReadFile(p.config)
	if err != nil {
		return err
	}
	return os.WriteFile(p.config, []byte(strings.Replace(string(was), "policies:\n", text+"policies:\n", 1)), 0o600)
}

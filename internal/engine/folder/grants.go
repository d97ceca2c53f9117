package folder

import (
	"fmt"
	"strings"

	"dexamen/internal/engine"
)

// Grants implements [engine.Granter]: what who logs in on other machines must be allowed.
func (Driver) Grants(t engine.Target, restore bool) string {
	list, err := machines(t)
	if err != nil || len(list) == 0 {
		who := "Whoever runs dexamen must be able to read the folders"
		if restore {
			who += ", and to write to the folder around each; only root keeps owners"
		}
		return "# " + who + ".\n"
	}
	var b strings.Builder
	program, _ := t.Options["program"].(string)
	elevate, _ := texts(t.Options["elevate"])
	for _, l := range list {
		user := l.user
		if user == "" {
			user = t.User
		}
		if user == "" {
			user = "keeper"
		}
		fmt.Fprintf(&b,
			"# On %s, as root: a user to log in as, and what it may run (visudo -f /etc/sudoers.d/dexamen).\n", l.host)
		fmt.Fprintf(&b, "useradd --create-home %s\n", user)
		path := program
		if path == "" {
			path = fmt.Sprintf("/home/%s/.cache/dexamen/*", user)
		}
		if len(elevate) > 0 && elevate[0] == "sudo" {
			fmt.Fprintf(&b, "%s ALL=(root) NOPASSWD: %s\n", user, path)
		} else {
			fmt.Fprintf(&b, "# Without options.elevate only what %s may read is protected.\n", user)
		}
	}
	return b.String()
}

// Package all has every engine of the program register itself. Adding an engine is
// a package beside this one, and one line here.
package all

import (
	_ "dexamen/internal/engine/document" // document clusters
	_ "dexamen/internal/engine/etcd"     // etcd
	_ "dexamen/internal/engine/folder"   // folders of files
	_ "dexamen/internal/engine/redis"    // Redis
	_ "dexamen/internal/engine/search"   // search clusters
)

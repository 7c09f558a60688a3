// Package live is what the example gains when it is walked through live: berth planning is
// reached by SCIM, ship's stores by uploads, the reporting database and the crew directory
// where a PostgreSQL server and a directory server can be started. It is laid over the example
// of package marrowick.
package live

import (
	"embed"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
)

//go:embed apps kits exports
var files embed.FS

// Suffix is the root of the crew directory.
const Suffix = "dc=marrowick,dc=example"

// At is where the applications are, as HOST:PORT; "" for one that cannot be started, which is
// then left out.
type At struct{ Berths, Warehouse, Directory string }

// Write lays the files over the example's repository.
func Write(dir string, at At) error {
	without := map[string]bool{}
	if at.Warehouse == "" {
		without["warehouse.yaml"] = true
	}
	if at.Directory == "" {
		without["directory.yaml"] = true
	}
	fill := strings.NewReplacer(
		"//BERTHS/",
		"//"+at.Berths+"/",
		"//WAREHOUSE/",
		"//"+at.Warehouse+"/",
		"//DIRECTORY\n",
		"//"+at.Directory+"\n",
	)
	return fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || without[path.Base(name)] {
			return err
		}
		data, err := files.ReadFile(name)
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(dir, filepath.FromSlash(name)), []byte(fill.Replace(string(data))), 0o644)
	})
}

// Warehouse makes the roles of the reporting database as they are before the story: Greta Holm
// has left reporting and owns a table, and somebody has made a role by hand.
const Warehouse = `CREATE ROLE reports; CREATE ROLE figures;
CREATE ROLE "jonah.petit" LOGIN; COMMENT ON ROLE "jonah.petit" IS 'Jonah Petit'; GRANT reports TO "jonah.petit";
CREATE ROLE "greta.holm" LOGIN; COMMENT ON ROLE "greta.holm" IS 'G. Holm'; GRANT figures TO "greta.holm";
CREATE ROLE "test.reports" LOGIN;`

// crew are the entries of the crew directory before the story: who, whether ashore, and in
// which group.
var crew = []struct{ uid, name, title, branch, group string }{
	{"ragnar.poole", "Ragnar Poole", "Captain", "people", "deck"},
	{"agnes.wilder", "Agnes Wilder", "Mate", "people", "deck"},
	{"stellan.brook", "Stellan Brook", "Mate", "people", "engine"},
	{"birgit.sloane", "Birgit Sloane", "Chief engineer", "people", "engine"},
	{"wim.decker", "Wim Decker", "Dry-dock surveyor", "people", "engine"},
	{"selma.grant", "Selma Grant", "Motorman", "ashore", "engine"},
}

// Directory is the crew directory before the story, as LDIF (RFC 2849).
func Directory() string {
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"dn: %s\nobjectClass: organization\nobjectClass: dcObject\no: Marrowick Ferries\ndc: marrowick\n",
		Suffix,
	)
	for _, branch := range []string{"people", "ashore", "groups"} {
		fmt.Fprintf(&b, "\ndn: ou=%s,%s\nobjectClass: organizationalUnit\nou: %s\n", branch, Suffix, branch)
	}
	members := map[string]string{}
	for _, x := range crew {
		dn := "uid=" + x.uid + ",ou=" + x.branch + "," + Suffix
		members[x.group] += "member: " + dn + "\n"
		words := strings.Fields(x.name)
		fmt.Fprintf(
			&b,
			"\ndn: %s\nobjectClass: inetOrgPerson\nuid: %s\ncn: %s\nsn: %s\ndisplayName: %s\ntitle: %s\n"+
				"mail: %s@marrowick.example\n",
			dn,
			x.uid,
			x.name,
			words[len(words)-1],
			x.name,
			x.title,
			x.uid,
		)
	}
	for _, group := range []string{"deck", "engine"} {
		fmt.Fprintf(&b, "\ndn: cn=%s,ou=groups,%s\nobjectClass: groupOfNames\ncn: %s\nmember: cn=admin,%s\n%s",
			group, Suffix, group, Suffix, members[group])
	}
	return b.String()
}

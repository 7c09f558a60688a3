// Command world writes a desired-state repository of any size, with three CSV
// applications, 200 rules, four holdings an account, and one account in a
// hundred differing; and the rows that each application should have, for
// comparing with plain tools. The same numbers give the same bytes.
//
//	go run ./tools/world -people 100000 -rules 200 DIR
package main

import (
	"bufio"
	"flag"
	"fmt"
	"log"
	"os"
	"path/filepath"
)

const (
	departments = 50
	locations   = 20
	titles      = 30
)

var apps = []string{"alpha", "bravo", "carol"}

func main() {
	people := flag.Int("people", 1000, "how many people, each with an account in each application")
	rules := flag.Int("rules", 200, "how many rules; beyond 200 they match nobody more")
	every := flag.Int("every", 100, "of how many people one differs from what is due, in each application")
	flag.Parse()
	if flag.NArg() != 1 || *rules < 200 || *every < 1 {
		log.Fatal("usage: world [-people N] [-rules N, at least 200] [-every N] DIR")
	}
	w := &world{dir: flag.Arg(0), people: *people, rules: *rules, every: *every}
	for _, d := range []string{"people", "apps", "kits", "exports", "rows"} {
		if err := os.MkdirAll(filepath.Join(w.dir, d), 0o755); err != nil {
			log.Fatal(err)
		}
	}
	w.root()
	w.roster()
	for _, app := range apps {
		w.app(app)
		w.accounts(app)
	}
	w.kits()
}

type world struct {
	dir    string
	people int
	rules  int
	every  int
}

// write writes a file line by line.
func (w *world) write(name string, f func(line func(format string, args ...any))) {
	file, err := os.Create(filepath.Join(w.dir, name))
	if err != nil {
		log.Fatal(err)
	}
	out := bufio.NewWriterSize(file, 1<<20)
	f(func(format string, args ...any) { fmt.Fprintf(out, format+"\n", args...) })
	if err := out.Flush(); err != nil {
		log.Fatal(err)
	}
	if err := file.Close(); err != nil {
		log.Fatal(err)
	}
}

func (w *world) root() {
	w.write("pravet.yaml", func(line func(string, ...any)) {
		line("organization: A large made-up organization")
		line("guards: {exportAge: P100Y}")
	})
}

// A person's place in the organization follows from the number by steps that
// share no factor, so that all combinations come.
func place(i int) (department, location, title int) {
	return i % departments, i / 7 % locations, i / 11 % titles
}

func user(i int) string { return fmt.Sprintf("user.%07d", i) }

func (w *world) roster() {
	w.write("people/all.csv", func(line func(string, ...any)) {
		line("id,userName,displayName,email,title,department,location,userType,starts,ends")
		for i := range w.people {
			d, l, t := place(i)
			line(
				"P%07d,%s,Person Number %d,%s@large.example,Title %02d,Department %02d,Location "+
					"%02d,Employee,20%02d-%02d-01,",
				i,
				user(i),
				i,
				user(i),
				t,
				d,
				l,
				10+i%15,
				1+i%12,
			)
		}
	})
}

func (w *world) app(app string) {
	w.write("apps/"+app+".yaml", func(line func(string, ...any)) {
		line("app: %s", app)
		line("export:\n  format: csv\n  path: exports/%s.csv", app)
		line("  columns:\n    userName: login\n    displayName: name\n    email: mail")
		line("    active: {column: state, true: open, false: blocked}")
		line(
			"    groups: {column: groups, split: \";\"}\n" +
				"    roles: {column: roles, split: \";\"}\n" +
				"    licenses: {column: licenses, split: \";\"}",
		)
		line("connect: {by: files}\nmatch: userName")
		line("account: {userName: userName, displayName: displayName, email: email}")
		line("groups:")
		for d := range departments {
			line("  team-%02d: {}", d)
		}
		line("roles:")
		for l := range locations {
			line("  site-%02d: {}", l)
		}
		for t := range titles {
			line("  work-%02d: {}", t)
		}
		line("licenses:\n  seat: {}")
	})
}

func (w *world) kits() {
	w.write("kits/all.yaml", func(line func(string, ...any)) {
		line("kits:")
		for _, app := range apps {
			for d := range departments {
				line(
					"  %s-team-%02d:\n"+
						"    for: department eq \"Department %02d\"\n"+
						"    gives: {%s: {groups: [team-%02d], licenses: [seat]}}",
					app,
					d,
					d,
					app,
					d,
				)
			}
		}
		for l := range locations {
			line(
				"  site-%02d:\n"+
					"    for: location eq \"Location %02d\"\n"+
					"    gives: {alpha: {roles: [site-%02d]}, bravo: {roles: [site-%02d]}, carol: {roles: [site-%02d]}}",
				l,
				l,
				l,
				l,
				l,
			)
		}
		for t := range titles {
			line(
				"  work-%02d:\n"+
					"    for: title eq \"Title %02d\" and userType eq \"Employee\"\n"+
					"    gives: {alpha: {roles: [work-%02d]}, bravo: {roles: [work-%02d]}, carol: {roles: [work-%02d]}}",
				t,
				t,
				t,
				t,
				t,
			)
		}
		for r := 200; r < w.rules; r++ {
			line(
				"  more-%04d:\n"+
					"    for: department eq \"Department %02d\" and title eq \"Nothing %04d\"\n"+
					"    gives: {alpha: {roles: [work-00]}}",
				r,
				r%departments,
				r,
			)
		}
	})
}

// accounts writes an application's export and the rows that it should have.
func (w *world) accounts(app string) {
	header := "login,name,mail,state,groups,roles,licenses"
	row := func(i int, name, mail, extra string, site bool) string {
		d, l, t := place(i)
		roles := fmt.Sprintf("work-%02d", t)
		if site {
			roles = fmt.Sprintf("site-%02d;", l) + roles
		}
		return fmt.Sprintf("%s,%s,%s,open,team-%02d,%s%s,seat", user(i), name, mail, d, roles, extra)
	}
	plain := func(i int) string {
		return row(i, fmt.Sprintf("Person Number %d", i), user(i)+"@large.example", "", true)
	}
	w.write("rows/"+app+".csv", func(line func(string, ...any)) {
		line("%s", header)
		for i := range w.people {
			line("%s", plain(i))
		}
	})
	w.write("exports/"+app+".csv", func(line func(string, ...any)) {
		line("%s", header)
		for k := range w.people {
			i := k ^ 1 // not in the roster's order
			if i >= w.people {
				i = k
			}
			name, mail := fmt.Sprintf("Person Number %d", i), user(i)+"@large.example"
			if i%w.every != 7%w.every {
				line("%s", plain(i))
				continue
			}
			switch i / w.every % 4 {
			case 0:
				line("%s", row(i, name+" Old", mail, "", true))
			case 1:
				line("%s", row(i, name, "old."+mail, "", true))
			case 2:
				line("%s", row(i, name, mail, "", false))
			case 3:
				line("%s", row(i, name, mail, fmt.Sprintf(";site-%02d", (i/7+1)%locations), true))
			}
		}
	})
}

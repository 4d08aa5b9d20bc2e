package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/jackc/pgx/v5"
)

// walk is the job, once from end to end.
func (t *tour) walk() error {
	for _, act := range []func() error{t.signIn, t.keep, t.refer, t.sweepHistory, t.release, t.workload, t.signed, t.approval, t.access, t.refusals, t.trail, t.otherRepositories} {
		if err := act(); err != nil {
			return err
		}
	}
	return nil
}

// as goes on as one of the demo's people, signed in on a device of their own.
func (t *tour) as(name string) error {
	for _, p := range t.demo.People {
		if p.Name == name {
			t.who = p.Login
			_, err := t.run(p.Password+"\n", ends(0, "Signed in", name), "adytum", "login", t.demo.URL, "--login", p.Login, "--password-stdin")
			return err
		}
	}
	return fmt.Errorf("the demo has no %s", name)
}

// steps runs commands one after the other.
func (t *tour) commands(all ...func() error) error {
	for _, f := range all {
		if err := f(); err != nil {
			return err
		}
	}
	return nil
}

func (t *tour) command(stdin string, check func(result) error, args ...string) func() error {
	return func() error {
		_, err := t.run(stdin, check, args...)
		return err
	}
}

func (t *tour) signIn() error {
	t.heading("Tomasz, the steward of the loans service, signs in and looks around")
	return t.commands(
		func() error { return t.as("Tomasz Lindqvist") },
		t.command("", ends(0, "steward in loans"), "adytum", "whoami"),
		t.command("", ends(0, "PGPASSWORD", "(withheld)", "Europe/Dublin"), "adytum", "list", "--project", "loans", "--environment", "live"),
		t.command("", ends(0, "superseded", "the old key stood in a support ticket"), "adytum", "history", "QUILLPOST_KEY", "-p", "loans", "-e", "live"),
	)
}

func (t *tour) keep() error {
	t.heading("He keeps a new value; a value given as an argument is refused")
	const value = "pnw_test_a1B2c3D4e5F6g7H8i9J0"
	return t.commands(
		t.command("", all(ends(2, "--stdin"), without(value)), "adytum", "keep", "PENNYWICK_KEY="+value, "-p", "loans", "-e", "local"),
		t.command(value+"\n", all(ends(0, "PENNYWICK_KEY added"), without(value)), "adytum", "keep", "PENNYWICK_KEY", "--stdin", "-p", "loans", "-e", "local", "--because", "to try out fines"),
		t.command("", prints(value), "adytum", "value", "PENNYWICK_KEY", "-p", "loans", "-e", "local"),
		t.command("", ends(0, "adytum:PENNYWICK_KEY", "withheld"), "adytum", "show", "PENNYWICK_KEY", "-p", "loans", "-e", "local"),
	)
}

// refer takes the plaintext out of the repository's dotenv file.
func (t *tour) refer() error {
	t.heading("His repository has a plaintext file; the values move into the store, and references stay")
	t.dir = filepath.Join(t.home, "demo", "repositories", "loans")
	t.env = []string{"ADYTUM_ENVIRONMENT=workshop"}
	var before string
	return t.commands(
		t.command("", ends(3, ".env:6", "PGPASSWORD"), "adytum", "sweep", "tree"),
		func() error {
			r, err := t.run("", ends(0, "Harbour Street: 2"), "sh", "-c", "set -a; . ./.env; bin/report")
			before = r.stdout
			return err
		},
		t.command("", ends(0, "loans"), "adytum", "link", "loans"),
		t.command("", ends(0, "loans/workshop is there"), "adytum", "environment", "add", "workshop"),
		t.command("", ends(3, "PGPASSWORD is not set in loans/workshop", "2 of 8 needs are not ready"), "adytum", "check"),
		t.command("", ends(0, "PGPASSWORD added", "QUILLPOST_KEY added", "PAGE_SIZE stays"), "adytum", "adopt", ".env", "--because", "plaintext leaves the repository"),
		t.command("", ends(0, "PGPASSWORD=\"adytum:PGPASSWORD\"   # the same as in live", "QUILLPOST_KEY=adytum:QUILLPOST_KEY", "PAGE_SIZE=25"), "cat", ".env"),
		func() error {
			_, err := t.run("", prints(before), "adytum", "supply", "--", "bin/report")
			return err
		},
		t.command("", ends(0, "no findings"), "adytum", "sweep", "tree"),
		func() error {
			t.heading("A real psql signs in as a real role with the password from the store")
			return nil
		},
		t.command("", prints("loans_app"), "adytum", "supply", "-e", "live", "--", "psql", "--no-psqlrc", "-Atc", "select current_user"),
		t.command("", prints("7"), "sh", "-c", "adytum supply -e live -- sh -c 'exit 7'; echo $?"),
		t.command("", prints(""), "adytum", "supply", "-e", "live", "--", "sh", "-c", "env | grep -c ^ADYTUM_ | grep -v ^0 || true"),
		func() error { t.heading("A reference that leads nowhere: the program is not started"); return nil },
		t.command("", all(ends(125, "PGPASWORD is not set in loans/live; did you mean PGPASSWORD?", "QUILPOST_KEY", "not started"), without("started anyway")),
			"sh", "-c", "A=adytum:PGPASWORD B=adytum:QUILPOST_KEY adytum supply -e live --expand A --expand B -- echo started anyway"),
		t.command("", all(ends(125, "character 18"), without("started anyway")), "sh", "-c", "A=adytum:PGPASSWORD-1 adytum supply -e live --expand A -- echo started anyway"),
		t.command("", ends(0, "All 8 needs are ready in loans/live"), "adytum", "check", "-e", "live"),
	)
}

func (t *tour) sweepHistory() error {
	t.heading("What was committed stays in the history: the same password, twice, with the commits")
	report := filepath.Join(t.home, "history.sarif")
	return t.commands(
		t.command("", ends(3, "config/database.yml:5", "went out with", ".env:6", "Priya Vantongeren"), "adytum", "sweep", "history"),
		t.command("", ends(3, "the report is"), "adytum", "sweep", "history", "--output", "sarif", "--to", report),
		func() error {
			return t.check("the report is SARIF 2.1.0 and holds no value", func() error {
				content, err := os.ReadFile(report)
				if err != nil {
					return err
				}
				var sarif struct {
					Version string
					Runs    []struct{ Results []struct{ RuleID string } }
				}
				if err := json.Unmarshal(content, &sarif); err != nil {
					return err
				}
				if sarif.Version != "2.1.0" || len(sarif.Runs) != 1 || len(sarif.Runs[0].Results) != 3 {
					return fmt.Errorf("version %s, %d runs", sarif.Version, len(sarif.Runs))
				}
				password, err := t.storedPassword()
				if err == nil && strings.Contains(string(content), password) {
					return fmt.Errorf("the report holds the password")
				}
				return err
			})
		},
		func() error {
			return t.check("the password in the history is the one in the store", func() error {
				password, err := t.storedPassword()
				if err != nil {
					return err
				}
				git := exec.Command("git", "log", "--all", "--patch")
				git.Dir = t.dir
				history, err := git.Output()
				if err == nil && strings.Count(string(history), password) < 2 {
					err = fmt.Errorf("the history does not hold it")
				}
				return err
			})
		},
	)
}

func (t *tour) storedPassword() (string, error) {
	r, err := t.run("", ends(0), "adytum", "value", "PGPASSWORD", "-p", "loans", "-e", "live")
	return r.stdout, err
}

// release compares two environments before a release, carries over what is
// missing, and goes back when it was too early.
func (t *tour) release() error {
	t.heading("Before a release he compares staging with live, without seeing a value")
	t.dir, t.env = t.home, []string{"ADYTUM_PROJECT=loans", "ADYTUM_ENVIRONMENT=live"}
	defer func() { t.env = nil }()
	return t.commands(
		t.command("", ends(0, "PENNYWICK_WEBHOOK_KEY  missing in loans/live", "FINES_BY_CARD          missing in loans/live", "different"), "adytum", "compare", "staging", "live"),
		t.command("", ends(3, "missing in loans/live"), "adytum", "compare", "staging", "live", "--check"),
		t.command("", ends(0, "nothing was done", "PENNYWICK_WEBHOOK_KEY added (secret, version 1, copied from loans/staging"), "adytum", "copy", "--from", "staging", "--to", "live", "--missing", "--dry-run"),
		t.command("", ends(0, "revision 4"), "adytum", "copy", "--from", "staging", "--to", "live", "--missing", "--because", "fines by card go live"),
		t.command("", ends(0, "loans/staging"), "adytum", "list", "--same-as", "PENNYWICK_WEBHOOK_KEY"),
		t.command("", ends(0, "replaced", "generated: 48 characters of hex, 192 bits"), "adytum", "keep", "PENNYWICK_WEBHOOK_KEY", "--random", "--alphabet", "hex", "--length", "48", "--expires", "90d", "--owner", "Tomasz Lindqvist", "--because", "live has a key of its own"),
		t.command("", ends(0, "wins", "organization"), "adytum", "show", "TIMEZONE", "--layers"),
		func() error {
			t.heading("The release is taken back: the layer as it stood, as a new change")
			return nil
		},
		t.command("", ends(0, "PENNYWICK_WEBHOOK_KEY removed", "FINES_BY_CARD removed"), "adytum", "revert", "--to", "3", "--because", "the card terminal is not there yet"),
		t.command("", ends(1, "PENNYWICK_WEBHOOK_KEY is not set in loans/live"), "adytum", "value", "PENNYWICK_WEBHOOK_KEY"),
		t.command("", ends(0, "restored"), "adytum", "revert", "--change", "6", "--because", "and here it is"),
		t.command("", ends(0, "active until", "superseded", "copied from loans/staging, version 1"), "adytum", "history", "PENNYWICK_WEBHOOK_KEY"),
		t.command("", ends(0, "fines by card go live", "and here it is"), "adytum", "changes"),
		t.command("mine-alone-for-trying\n", ends(0, "and for nobody else"), "adytum", "private", "PENNYWICK_WEBHOOK_KEY", "--stdin", "-e", "staging"),
		t.command("", prints("mine-alone-for-trying"), "adytum", "value", "PENNYWICK_WEBHOOK_KEY", "-e", "staging"),
	)
}

func (t *tour) workload() error {
	t.heading("A server signs in as a workload: its own environment, and no other")
	t.dir = t.home
	w := t.demo.Workloads[0]
	t.env = []string{"ADYTUM_URL=" + t.demo.URL, "ADYTUM_CLIENT_ID=" + w.ClientID, "ADYTUM_CLIENT_SECRET=" + w.ClientSecret, "ADYTUM_PROJECT=loans"}
	defer func() { t.env = nil }()
	return t.commands(
		t.command("", ends(0, w.Name, "consumer in loans/live"), "adytum", "whoami"),
		t.command("", ends(0, "loans_app"), "adytum", "value", "PGUSER", "-e", "live"),
		t.command("", ends(1, "the project loans has no environment \"staging\""), "adytum", "value", "PGUSER", "-e", "staging"),
		t.command("", ends(4, "may not write in loans/live"), "adytum", "keep", "--setting", "PGUSER=somebody", "-e", "live"),
	)
}

// signed is how a pipeline and a pod sign in: with what their own surroundings
// sign for them, and no secret of Adytum's.
func (t *tour) signed() error {
	t.heading("A pipeline and a pod sign in with tokens that their runner and their cluster sign: no client secret anywhere")
	defer func() { t.env = nil }()
	file := filepath.Join(t.home, "signed-token")
	given := func(issuer string, form url.Values) func() error {
		return func() error {
			t.env = []string{"ADYTUM_URL=" + t.demo.URL, "ADYTUM_SIGNED_TOKEN_FILE=" + file}
			return t.check("the token is written where the job finds it", func() error {
				form.Set("audience", t.demo.StandIns.Audience)
				answer, err := http.PostForm(issuer+"/sign", form)
				if err != nil {
					return err
				}
				defer answer.Body.Close()
				content, err := io.ReadAll(answer.Body)
				if err != nil {
					return err
				}
				return os.WriteFile(file, content, 0o600)
			})
		}
	}
	main := "repository:fernhollow/loans:ref:refs/heads/main"
	return t.commands(
		given(t.demo.StandIns.Runner, url.Values{"subject": {main}, "repository_id": {"7301"}, "ref_protected": {"true"}}),
		t.command("", ends(0, "loans-pipeline", "consumer in loans/staging"), "adytum", "whoami"),
		t.command("", ends(0, "Europe/Dublin"), "adytum", "value", "TIMEZONE", "-p", "loans", "-e", "staging"),
		given(t.demo.StandIns.Runner, url.Values{"subject": {"repository:fernhollow/loans:ref:refs/heads/feature"}, "repository_id": {"7301"}, "ref_protected": {"false"}}),
		t.command("", ends(4, "the signed token is not accepted; the trail tells auditors why"), "adytum", "whoami"),
		given(t.demo.StandIns.Cluster, url.Values{"subject": {"system:serviceaccount:notices:mailer"}}),
		t.command("", ends(0, "notices-mailer", "consumer in notices/live"), "adytum", "whoami"),
	)
}

// approval is a change that a second person looks at first.
func (t *tour) approval() error {
	t.heading("Changes of the mailer's live environment wait for a second person")
	return t.commands(
		func() error { return t.as("Ines Okafor") },
		t.command("", ends(0, "is changed"), "adytum", "environment", "edit", "live", "-p", "notices", "--approval"),
		t.command("", ends(0, "is editor in notices/live"), "adytum", "grant", "add", "editor", "--person", "tomasz@fernhollow.example", "-p", "notices", "-e", "live"),
		t.command("", ends(0, "need another person's approval", "Proposed as 1"), "adytum", "keep", "--setting", "SEND_AT=05:30", "-p", "notices", "-e", "live", "--because", "readers get up early"),
		t.command("", ends(4, "somebody else approves what you have proposed"), "adytum", "proposal", "approve", "1"),
		func() error { return t.as("Tomasz Lindqvist") },
		t.command("", ends(0, "Ines Okafor", "SEND_AT"), "adytum", "proposal", "list"),
		t.command("", ends(0, "notices/live is now at revision"), "adytum", "proposal", "approve", "1", "--because", "so they do"),
		t.command("", ends(0, "Nothing waits for approval."), "adytum", "proposal", "list"),
	)
}

// access is a day of the owner: somebody new, a grant with limits, a fright, and
// what to replace when somebody leaves.
func (t *tour) access() error {
	t.heading("Ines, an owner, brings somebody in, limits what they may do, and stops a workload in a fright")
	var link string
	return t.commands(
		func() error { return t.as("Ines Okafor") },
		func() error {
			r, err := t.run("", ends(0, "good until", "adytum welcome"), "adytum", "person", "add", "noor@fernhollow.example", "Noor Adeyemi", "--invite")
			link = r.stdout
			return err
		},
		func() error {
			_, err := t.run(link+"gravel teacup eleven moth\n", all(ends(0, "Welcome, Noor Adeyemi."), without("gravel")), "adytum", "welcome", t.demo.URL, "--stdin")
			return err
		},
		t.command("", ends(0, "desk"), "adytum", "team", "add", "desk"),
		t.command("", ends(0, "in the team desk"), "adytum", "team", "join", "desk", "noor@fernhollow.example"),
		t.command("", ends(0, "It would newly allow:", "Noor Adeyemi", "Nothing was granted."), "adytum", "grant", "add", "consumer", "--team", "desk", "-p", "loans", "-e", "staging", "--names", "PG*", "--until", "30d", "--dry-run"),
		t.command("", ends(0, "names PG*; until"), "adytum", "grant", "add", "consumer", "--team", "desk", "-p", "loans", "-e", "staging", "--names", "PG*", "--until", "30d"),
		t.command("", ends(0, "Noor Adeyemi", "through the team desk"), "adytum", "explain", "PGPASSWORD", "-p", "loans", "-e", "staging"),
		t.command("", ends(0, "frozen"), "adytum", "freeze", "--workload", "loans-server", "--because", "its key was seen in a log"),
		t.command("", ends(0, "loans-server"), "adytum", "freeze"),
		t.command("", ends(0, "frozen no more"), "adytum", "thaw", "--workload", "loans-server"),
		t.command("", ends(0, "has obtained", "PENNYWICK_KEY", "in force"), "adytum", "explain", "--person", "tomasz@fernhollow.example", "--obtained"),
		t.command("", ends(0, "ADYTUM_CLIENT_SECRET=", "shown this once"), "adytum", "workload", "add-secret", "loans-server", "--days", "90"),
		func() error { return t.as("Tomasz Lindqvist") },
	)
}

func (t *tour) refusals() error {
	t.heading("Priya may see what there is in live, and not the values")
	return t.commands(
		func() error { return t.as("Priya Vantongeren") },
		t.command("", ends(0, "PGPASSWORD"), "adytum", "list", "-p", "loans", "-e", "live"),
		t.command("", ends(4, "may not read PGPASSWORD in loans/live"), "adytum", "value", "PGPASSWORD", "-p", "loans", "-e", "live"),
		t.command("", ends(1, "there is no project \"notices\""), "adytum", "list", "-p", "notices", "-e", "live"),
	)
}

func (t *tour) trail() error {
	t.heading("Abel, the auditor, reads the trail; one event altered in the database is noticed")
	return t.commands(
		func() error { return t.as("Abel Marsh") },
		t.command("", ends(0, "Priya Vantongeren", "entry.value", "refused", "loans-server"), "adytum", "trail", "--limit", "14"),
		t.command("", ends(0, "The trail is whole"), "adytum", "trail", "verify"),
		t.command("", ends(0, "trail verify --checkpoint FILE"), "adytum", "trail", "checkpoint", "--to", "checkpoint"),
		t.command("", ends(0, "The trail is whole", "It goes on from the checkpoint"), "adytum", "trail", "verify", "--checkpoint", "checkpoint"),
		t.command("", ends(0), "adytum", "trail", "export", "--format", "records", "--to", "records"),
		t.command("", ends(0, "The records are whole"), "adytum", "trail", "verify", "--records", "records", "--checkpoint", "checkpoint"),
		t.command("", ends(0), "adytum", "trail", "prove", "organization:3", "--to", "proof"),
		t.command("", ends(0, "This event stands in the trail"), "adytum", "trail", "verify", "--proof", "proof"),
		func() error {
			return t.check("an event is altered as the database's administrator", func() error {
				return t.database("UPDATE adytum.trail_batches SET body = overlay(body PLACING 'z'::bytea FROM 20 FOR 1) WHERE lane = 'organization' AND first = 3")
			})
		},
		t.command("", ends(3, "organization, event 3", "signature", "not whole"), "adytum", "trail", "verify"),
	)
}

// database runs a statement past everything, as one who holds the database can.
func (t *tour) database(statement string) error {
	ctx := context.Background()
	config, err := pgx.ParseConfig(t.demo.Database)
	if err != nil {
		return err
	}
	config.Database = "adytum"
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	tag, err := conn.Exec(ctx, statement)
	if err == nil && tag.RowsAffected() != 1 {
		err = fmt.Errorf("%d rows were altered", tag.RowsAffected())
	}
	return err
}

func (t *tour) otherRepositories() error {
	t.heading("The other repositories: a key in a browser's bundle, a private key, a key that was removed")
	catalogue, notices := filepath.Join(t.home, "demo", "repositories", "catalogue"), filepath.Join(t.home, "demo", "repositories", "notices")
	return t.commands(
		t.command("", ends(3, "web/dist/assets/index-4f2c81aa.js:1", "1 finding "), "adytum", "sweep", "tree", catalogue),
		t.command("", ends(3, "build/tls/server.key:1", "1 finding "), "adytum", "sweep", "tree", notices),
		t.command("", ends(3, "mailer/settings.py:2", "went out with", "2 findings "), "adytum", "sweep", "history", notices),
	)
}

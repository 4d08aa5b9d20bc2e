// Command pictures makes the pictures in docs/screenshots: the console in
// headless Chromium, the client in a terminal window under Xvfb, both on a demo
// of their own.
package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"

	"adytum.example/demo"
	"adytum.example/internal/testkit"
)

func main() {
	bin := flag.String("bin", "bin", "folder of the programs")
	to := flag.String("to", "docs/screenshots", "folder for the pictures")
	only := flag.String("only", "", "make the pictures alone whose names hold this")
	flag.Parse()
	if err := run(*bin, *to, *only); err != nil {
		fmt.Fprintln(os.Stderr, "pictures:", err)
		os.Exit(1)
	}
}

type pictures struct {
	bin, to, only, home string
	demo                demo.Demo
}

func run(bin, to, only string) (err error) {
	if bin, err = filepath.Abs(bin); err != nil {
		return err
	}
	// A home with a short name, since it shows in the pictures.
	home := "/tmp/fernhollow"
	if err := os.Mkdir(home, 0o711); err != nil {
		return err
	}
	defer os.RemoveAll(home)
	p := &pictures{bin: bin, to: to, only: only, home: home}
	cmd := exec.Command(filepath.Join(bin, "adytumd"), "demo", "--home", home, "--listen", "127.0.0.1:8743", "--output", "json")
	cmd.Stderr = os.Stderr
	stdout, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	defer func() {
		err = errors.Join(err, cmd.Process.Signal(syscall.SIGTERM), cmd.Wait())
	}()
	line, err := bufio.NewReader(stdout).ReadString('\n')
	if err != nil {
		return errors.New("the demo did not start")
	}
	if err := json.Unmarshal([]byte(line), &p.demo); err != nil {
		return err
	}
	if err := p.terminal(); err != nil {
		return err
	}
	return p.console()
}

func (p *pictures) wanted(name string) bool { return strings.Contains(name, p.only) }

// console takes the pages, signed in as the owner.
func (p *pictures) console() error {
	profile, err := os.MkdirTemp("", "adytum-pictures-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(profile)
	ctx, stop, err := testkit.OpenBrowser(context.Background(), profile)
	if err != nil {
		return err
	}
	defer stop()
	owner := p.demo.People[0]
	signIn := []chromedp.Action[chromedp.Void]{
		chromedp.SendKeys(chromedp.CSS("input[name=username]"), owner.Login), chromedp.SendKeys(chromedp.CSS("input[name=password]"), owner.Password),
		chromedp.Click(chromedp.CSS("button[type=submit]")), chromedp.WaitVisible(chromedp.CSS("table")),
	}
	at := func(path string) chromedp.Action[chromedp.Void] { return chromedp.Navigate(p.demo.URL + path) }
	theme := func(name string) chromedp.Action[chromedp.Void] {
		return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
			_, err := chromedp.Evaluate[string]("document.documentElement.dataset.theme = '"+name+"'")(ctx, t)
			return chromedp.Void{}, err
		}
	}
	settle := chromedp.Sleep(400 * time.Millisecond)
	sheet := "/projects/loans/environments/live/entries/QUILLPOST_KEY"
	for _, page := range []struct {
		name  string
		steps []chromedp.Action[chromedp.Void]
	}{
		{"console-sign-in", []chromedp.Action[chromedp.Void]{at("/"), chromedp.WaitVisible(chromedp.CSS("form"))}},
		{"console-entries", append(signIn, at("/projects/loans/entries"), chromedp.WaitVisible(chromedp.CSS("table")))},
		{"console-entry", []chromedp.Action[chromedp.Void]{at(sheet), chromedp.WaitVisible(chromedp.CSS("[data-testid=reference]"))}},
		{"console-entry-dark", []chromedp.Action[chromedp.Void]{theme("dark")}},
		{"console-trail", []chromedp.Action[chromedp.Void]{at("/trail"), chromedp.WaitVisible(chromedp.CSS("table")), chromedp.Click(chromedp.CSS("[data-testid=verify]")), chromedp.WaitVisible(chromedp.CSS("[data-testid=verification]"))}},
		{"console-narrow", []chromedp.Action[chromedp.Void]{chromedp.EmulateViewport(390, 844), at(sheet), chromedp.WaitVisible(chromedp.CSS("[data-testid=reference]"))}},
	} {
		if err := chromedp.Do(ctx, append(page.steps, settle)...); err != nil {
			return fmt.Errorf("%s: %w", page.name, err)
		}
		if !p.wanted(page.name) {
			continue
		}
		picture, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			return fmt.Errorf("%s: %w", page.name, err)
		}
		if err := os.WriteFile(filepath.Join(p.to, page.name+".png"), picture, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// shots are commands in a terminal window, in the demo's repository of the loans
// service, signed in as its steward.
var shots = []struct{ name, commands string }{
	{"client-list", "adytum list -p loans -e live; adytum show QUILLPOST_KEY -p loans -e live"},
	{"client-compare", "adytum compare staging live -p loans; adytum copy --from staging --to live --missing --dry-run -p loans"},
	{"client-going-back", "adytum history QUILLPOST_KEY -p loans -e live; adytum changes -p loans -e live; adytum revert --to 2 -p loans -e live --dry-run"},
	{"client-keep", "adytum keep SESSION_KEY --random -p loans -e staging --owner Tomasz --max-age 90 --because renewed; adytum show SESSION_KEY -p loans -e staging; adytum show SHOW_TRACEBACKS --layers -p loans -e local"},
	{"client-sweep-tree", "adytum sweep tree"},
	{"client-adopt", "adytum link loans; adytum environment add workshop; adytum adopt .env -e workshop; cat .env"},
	{"client-supply", "adytum needs -e workshop; adytum supply -e workshop -- bin/report; A=adytum:PGPASWORD adytum supply -e live --expand A -- bin/report"},
	{"client-sweep-history", "adytum sweep history"},
	{"client-access", "adytum explain PGPASSWORD -p loans -e live; adytum grant add editor --person priya@fernhollow.example -p loans -e live --names PG* --until 8h --dry-run; adytum freeze --project loans --because caution; adytum value PGPASSWORD -p loans -e live; adytum thaw --project loans"},
	{"client-proposal", "adytum environment edit live -p notices --approval; adytum keep --setting SEND_AT=05:30 -p notices -e live -b readers-rise-early; adytum proposal list; adytum proposal show 1"},
	{"client-alerts", "adytum keep OLD_MASTER_KEY --random -p loans -e live; adytum decoy add OLD_MASTER_KEY -p loans -e live; adytum channel add mail desk@fernhollow.example; adytum value OLD_MASTER_KEY -p loans -e live > /dev/null; adytum trail checkpoint > checkpoint; adytum alert list"},
	{"client-trail", "adytum trail --limit 8; adytum trail verify; adytum trail checkpoint; adytum trail prove organization:3 --to proof; adytum trail verify --proof proof"},
}

func (p *pictures) terminal() error {
	const display = ":97"
	server := exec.Command("Xvfb", display, "-screen", "0", "1280x800x24", "-nolisten", "tcp")
	if err := server.Start(); err != nil {
		return err
	}
	defer func() { _ = server.Process.Signal(syscall.SIGTERM); _ = server.Wait() }()
	time.Sleep(time.Second)
	for _, s := range shots {
		who := p.demo.People[1]
		switch s.name {
		case "client-trail":
			who = p.demo.People[3]
		case "client-access", "client-proposal", "client-alerts":
			who = p.demo.People[0]
		}
		if err := p.shot(display, s.name, s.commands, who); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
	}
	return nil
}

func (p *pictures) shot(display, name, commands string, who demo.Person) error {
	environment := append(os.Environ(), "DISPLAY="+display, "PATH="+p.bin+":"+os.Getenv("PATH"), "HOME="+p.home, "XDG_STATE_HOME="+filepath.Join(p.home, "state"), "PS1=$ ")
	login := exec.Command(filepath.Join(p.bin, "adytum"), "login", p.demo.URL, "--login", who.Login, "--password-stdin")
	login.Env, login.Stdin = environment, strings.NewReader(who.Password+"\n")
	if output, err := login.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, output)
	}
	var script bytes.Buffer
	for i, c := range strings.Split(commands, "; ") {
		if i > 0 {
			script.WriteString("echo\n")
		}
		fmt.Fprintf(&script, "printf '\\033[1m$ %%s\\033[0m\\n' %s\n%s\n", "'"+c+"'", c)
	}
	script.WriteString("sleep 30\n")
	terminal := exec.Command("xterm", "-fa", "DejaVu Sans Mono", "-fs", "11", "-geometry", "150x46+0+0", "+sb", "-b", "12", "-bg", "#FAF8F3", "-fg", "#221D16", "-T", name, "-e", "sh", "-c", script.String())
	terminal.Env, terminal.Dir = environment, filepath.Join(p.home, "repositories", "loans")
	if err := terminal.Start(); err != nil {
		return err
	}
	defer func() { _ = terminal.Process.Kill(); _ = terminal.Wait() }()
	time.Sleep(2500 * time.Millisecond)
	if !p.wanted(name) {
		return nil
	}
	take := exec.Command("/usr/bin/import", "-window", name, filepath.Join(p.to, name+".png"))
	take.Env = environment
	output, err := take.CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, output)
	}
	return nil
}

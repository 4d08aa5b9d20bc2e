// Command bench measures, each figure beside a limit or a plain alternative that
// is measured in the same run, and prints them with their ratio.
package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sort"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"adytum.example/client"
	"adytum.example/demo"
)

func main() {
	bin := flag.String("bin", "bin", "folder of the programs")
	only := flag.String("only", "", "measure only what holds this in its name")
	handler := flag.Bool("bare", false, "serve what is read from standard input, to be measured beside")
	without := flag.String("eventless", "", "run a demo in this folder that gives its events up after SIGUSR1, to be measured beside")
	flag.Parse()
	if *without != "" {
		if err := serveEventless(*without); err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
		return
	}
	if *handler {
		fmt.Fprintln(os.Stderr, "bench:", serveBare())
		os.Exit(1)
	}
	if err := run(*bin, *only); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

type bench struct {
	bin, home string
	process   *exec.Cmd
	demo      demo.Demo
	place     client.Place
	client    *client.Client
	owner     *client.Client
}

func run(bin, only string) (err error) {
	if bin, err = filepath.Abs(bin); err != nil {
		return err
	}
	home, err := os.MkdirTemp("", "adytum-bench-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(home)
	b := &bench{bin: bin, home: home, place: client.Place{Project: "loans", Environment: "live"}}
	if err := b.start(); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, b.stop()) }()
	fmt.Printf("%d cores, %s, %s, PostgreSQL on loopback with fsync on\n\n", runtime.NumCPU(), processor(), runtime.Version())
	fmt.Printf("%-34s %18s %18s %8s\n", "what", "measured", "beside it", "ratio")
	for _, m := range []struct {
		name    string
		measure func() (row, error)
	}{
		{"memory of the idle service", func() (row, error) { time.Sleep(5 * time.Second); return b.memory() }}, {"one value", b.value}, {"resolve of 50 over three layers", b.resolve}, {"resolve beside select-only", b.resolveBesideSelect}, {"resolve with its durable event", b.withoutEvent}, {"flush at 32 callers", b.flushes(32)}, {"flush at 512 callers", b.flushes(512)}, {"keep of one secret", b.keep}, {"memory after that", b.memory}, {"a decision", b.decision}, {"verify a million events", b.verification}, {"a hidden place", b.hidden}, {"a wrong password", b.signIns}, {"scale: a million versions", b.scale}, {"supply -- true", b.supply}, {"sweep tree", b.tree}, {"sweep history", b.history},
	} {
		if !strings.Contains(m.name, only) {
			continue
		}
		r, err := m.measure()
		if err != nil {
			return fmt.Errorf("%s: %w", m.name, err)
		}
		fmt.Printf("%-34s %18s %18s %8s   %s\n", m.name, r.measured, r.beside, r.ratio, r.note)
	}
	return nil
}

// start starts the demo, on the data that it has, and signs in.
func (b *bench) start() error {
	return b.startAs(exec.Command(filepath.Join(b.bin, "adytumd"), "demo", "--home", filepath.Join(b.home, "demo"), "--listen", "127.0.0.1:0", "--output", "json"))
}

// startAs starts a demo by a command that writes a line when it is ready.
func (b *bench) startAs(command *exec.Cmd) error {
	b.process = command
	b.process.Stderr = os.Stderr
	stdout, err := b.process.StdoutPipe()
	if err != nil {
		return err
	}
	if err := b.process.Start(); err != nil {
		return err
	}
	line, err := bufio.NewReader(stdout).ReadString('\n')
	if err != nil {
		return errors.Join(errors.New("the demo did not start"), b.stop())
	}
	if err := json.Unmarshal([]byte(line), &b.demo); err != nil {
		return errors.Join(err, b.stop())
	}
	return b.signIn()
}

func (b *bench) stop() error {
	return errors.Join(b.process.Process.Signal(syscall.SIGTERM), b.process.Wait())
}

func (b *bench) signIn() (err error) {
	if b.client, err = client.New(b.demo.URL); err != nil {
		return err
	}
	if _, err := b.client.SignInWorkload(context.Background(), b.demo.Workloads[0].ClientID, b.demo.Workloads[0].ClientSecret); err != nil {
		return err
	}
	if b.owner, err = client.New(b.demo.URL); err != nil {
		return err
	}
	_, err = b.owner.SignIn(context.Background(), b.demo.People[0].Login, b.demo.People[0].Password)
	return err
}

type row struct{ measured, beside, ratio, note string }

// memory is the resident set.
func (b *bench) memory() (row, error) {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", b.process.Process.Pid))
	if err != nil {
		return row{}, err
	}
	for line := range strings.Lines(string(status)) {
		if rest, found := strings.CutPrefix(line, "VmRSS:"); found {
			kb, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(rest), "kB")), 64)
			return row{fmt.Sprintf("%.0f MB", kb/1024), "80 MB", fmt.Sprintf("%.2f", kb/1024/80), "beside the aim"}, err
		}
	}
	return row{}, errors.New("the system does not tell")
}

// load asks for something again and again from many callers, and returns the
// rate and the 99th percentile.
func load(callers int, duration time.Duration, ask func() error) (rate float64, p99 time.Duration, err error) {
	var (
		group  sync.WaitGroup
		mu     sync.Mutex
		times  []time.Duration
		failed atomic.Pointer[error]
	)
	start := time.Now()
	for range callers {
		group.Go(func() {
			var mine []time.Duration
			for time.Since(start) < duration && failed.Load() == nil {
				asked := time.Now()
				if err := ask(); err != nil {
					failed.Store(&err)
					return
				}
				mine = append(mine, time.Since(asked))
			}
			mu.Lock()
			times = append(times, mine...)
			mu.Unlock()
		})
	}
	group.Wait()
	if e := failed.Load(); e != nil {
		return 0, 0, *e
	}
	sort.Slice(times, func(i, j int) bool { return times[i] < times[j] })
	return float64(len(times)) / time.Since(start).Seconds(), times[len(times)*99/100], nil
}

const (
	callers  = 32
	duration = 6 * time.Second
	turns    = 3
)

// bare starts a process that serves fixed bytes, the least that a service could
// do. Like the service it is a process of its own: one that shared the callers'
// would save the system most of the switching between the two.
func bare(body []byte) (url string, stop func(), err error) {
	self, err := os.Executable()
	if err != nil {
		return "", nil, err
	}
	cmd := exec.Command(self, "-bare")
	cmd.Stdin, cmd.Stderr = bytes.NewReader(body), os.Stderr
	stdout, err := cmd.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	stop = func() { _, _ = cmd.Process.Kill(), cmd.Wait() }
	if url, err = bufio.NewReader(stdout).ReadString('\n'); err != nil {
		stop()
		return "", nil, errors.New("the bare handler did not start")
	}
	return strings.TrimSpace(url), stop, nil
}

// serveBare answers every request with what stands on standard input.
func serveBare() error {
	body, err := io.ReadAll(os.Stdin)
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Println("http://" + listener.Addr().String())
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write(body)
	}), ReadHeaderTimeout: time.Second}
	return server.Serve(listener)
}

// requester makes a function that asks a service the same again and again.
func (b *bench) requester(method string, body []byte) func(url string) func() error {
	transport := &http.Transport{MaxIdleConnsPerHost: callers, DisableCompression: true}
	c := &http.Client{Transport: transport}
	return func(url string) func() error {
		return func() error {
			r, err := http.NewRequest(method, url, bytes.NewReader(body))
			if err != nil {
				return err
			}
			r.Header.Set("Authorization", "Bearer "+b.client.Token())
			r.Header.Set("Content-Type", "application/json")
			answer, err := c.Do(r)
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			if _, err := io.Copy(io.Discard, answer.Body); err != nil || answer.StatusCode != 200 {
				return fmt.Errorf("status %d: %w", answer.StatusCode, err)
			}
			return nil
		}
	}
}

// beside compares the rate of an operation with that of a bare handler that
// returns as many bytes.
func (b *bench) beside(method, path string, request []byte, answer any) (row, error) {
	body, err := json.Marshal(answer)
	if err != nil {
		return row{}, err
	}
	url, stop, err := bare(body)
	if err != nil {
		return row{}, err
	}
	defer stop()
	ask := b.requester(method, request)
	// In turns, since the machine is not equally quick all the time.
	var rate, least float64
	var worst time.Duration
	for range turns {
		r, p99, err := load(callers, duration/turns, ask(b.demo.URL+path))
		if err != nil {
			return row{}, err
		}
		l, _, err := load(callers, duration/turns, ask(url))
		if err != nil {
			return row{}, err
		}
		rate, least, worst = rate+r/turns, least+l/turns, max(worst, p99)
	}
	return row{fmt.Sprintf("%.0f/s", rate), fmt.Sprintf("%.0f/s", least), fmt.Sprintf("%.2f", rate/least),
		fmt.Sprintf("beside a bare handler of the same %d bytes, %d callers; 99 %% within %.1f ms", len(body), callers, float64(worst.Microseconds())/1000)}, nil
}

const benchPath = "/api/v1/projects/loans/environments/live"

// value measures requests for one value, each with its durable event.
func (b *bench) value() (row, error) {
	v, err := b.client.Value(context.Background(), b.place, "PGPASSWORD")
	if err != nil {
		return row{}, err
	}
	return b.beside(http.MethodGet, benchPath+"/entries/PGPASSWORD/value", nil, v)
}

// median runs a command some times and returns the middle of its times.
func median(times int, command func() *exec.Cmd) (time.Duration, error) {
	all := make([]time.Duration, times)
	for i := range all {
		cmd := command()
		start := time.Now()
		if err := cmd.Run(); err != nil {
			var exit *exec.ExitError
			if !errors.As(err, &exit) || exit.ExitCode() != 3 {
				return 0, err
			}
		}
		all[i] = time.Since(start)
	}
	sort.Slice(all, func(i, j int) bool { return all[i] < all[j] })
	return all[len(all)/2], nil
}

// supply compares starting a program with what it needs with starting it.
func (b *bench) supply() (row, error) {
	folder := filepath.Join(b.home, "supply")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return row{}, err
	}
	if err := os.WriteFile(filepath.Join(folder, "adytum-needs.yaml"), []byte("project: loans\nneeds:\n  PGPASSWORD: {secret: true}\n  PGHOST: {}\n  PAGE_SIZE: {type: integer}\n"), 0o644); err != nil {
		return row{}, err
	}
	environment := append(os.Environ(), "ADYTUM_URL="+b.demo.URL, "ADYTUM_TOKEN="+b.client.Token(), "ADYTUM_ENVIRONMENT=live")
	supplied, err := median(41, func() *exec.Cmd {
		cmd := exec.Command(filepath.Join(b.bin, "adytum"), "supply", "--", "true")
		cmd.Dir, cmd.Env = folder, environment
		return cmd
	})
	if err != nil {
		return row{}, err
	}
	plain, err := median(41, func() *exec.Cmd { return exec.Command("true") })
	return row{ms(supplied), ms(plain), fmt.Sprintf("+%s", ms(supplied-plain)), "beside true alone; the aim is +40 ms"}, err
}

func ms(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000) }

// tree compares a sweep of Go's own sources with reading the same files.
func (b *bench) tree() (row, error) {
	root := filepath.Join(runtime.GOROOT(), "src")
	var (
		paths []string
		bytes int64
	)
	err := filepath.WalkDir(root, func(path string, e os.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() {
			paths = append(paths, path)
		}
		return err
	})
	if err != nil {
		return row{}, err
	}
	read := func() time.Duration {
		start := time.Now()
		var next, total atomic.Int64
		var group sync.WaitGroup
		for range runtime.GOMAXPROCS(0) {
			group.Go(func() {
				for {
					i := int(next.Add(1)) - 1
					if i >= len(paths) {
						return
					}
					content, _ := os.ReadFile(paths[i])
					total.Add(int64(len(content)))
				}
			})
		}
		group.Wait()
		bytes = total.Load()
		return time.Since(start)
	}
	read()
	reading := min(read(), read(), read())
	swept, err := median(5, func() *exec.Cmd {
		return exec.Command(filepath.Join(b.bin, "adytum"), "sweep", "tree", root, "--everything", "--output", "json")
	})
	rate := func(d time.Duration) string { return fmt.Sprintf("%.0f MB/s", float64(bytes)/1e6/d.Seconds()) }
	return row{rate(swept), rate(reading), fmt.Sprintf("%.2f", reading.Seconds()/swept.Seconds()), fmt.Sprintf("beside reading the same %d files, %.0f MB", len(paths), float64(bytes)/1e6)}, err
}

// history compares a sweep of a made history with git's own printing of it.
func (b *bench) history() (row, error) {
	folder := filepath.Join(b.home, "history")
	commits, err := makeHistory(folder)
	if err != nil {
		return row{}, err
	}
	swept, err := median(3, func() *exec.Cmd {
		return exec.Command(filepath.Join(b.bin, "adytum"), "sweep", "history", folder, "--output", "json")
	})
	if err != nil {
		return row{}, err
	}
	printed, err := median(3, func() *exec.Cmd {
		cmd := exec.Command("sh", "-c", "git log -p --all > /dev/null")
		cmd.Dir = folder
		return cmd
	})
	return row{fmt.Sprintf("%.2f s", swept.Seconds()), fmt.Sprintf("%.2f s", printed.Seconds()), fmt.Sprintf("%.2f", swept.Seconds()/printed.Seconds()), fmt.Sprintf("beside git log -p --all, %d commits; the aim is at most 1", commits)}, err
}

// makeHistory makes a history of Go's own sources: each folder comes in with a
// commit of its own, and files of it are changed in later ones.
func makeHistory(folder string) (commits int, err error) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return 0, err
	}
	git := func(args ...string) error {
		cmd := exec.Command("git", append([]string{"-c", "gc.auto=0", "-c", "maintenance.auto=false"}, args...)...)
		cmd.Dir = folder
		cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_AUTHOR_NAME=x", "GIT_AUTHOR_EMAIL=x@fernhollow.example", "GIT_COMMITTER_NAME=x", "GIT_COMMITTER_EMAIL=x@fernhollow.example")
		output, err := cmd.CombinedOutput()
		if err != nil {
			return fmt.Errorf("git %s: %w: %s", args[0], err, output)
		}
		return nil
	}
	commit := func() error {
		commits++
		return errors.Join(git("add", "-A"), git("commit", "-q", "-m", fmt.Sprint("commit ", commits)))
	}
	if err := git("init", "-q"); err != nil {
		return 0, err
	}
	src := filepath.Join(runtime.GOROOT(), "src")
	entries, err := os.ReadDir(src)
	if err != nil {
		return 0, err
	}
	for _, e := range entries {
		if !e.IsDir() {
			continue
		}
		if err := os.CopyFS(filepath.Join(folder, e.Name()), os.DirFS(filepath.Join(src, e.Name()))); err != nil {
			return commits, err
		}
		if err := commit(); err != nil {
			return commits, err
		}
		files, _ := filepath.Glob(filepath.Join(folder, e.Name(), "*.go"))
		for round := range 4 {
			for i, f := range files {
				if i%4 != round {
					continue
				}
				content, err := os.ReadFile(f)
				if err != nil {
					return commits, err
				}
				if err := os.WriteFile(f, append([]byte(fmt.Sprintf("// round %d\n", round)), content...), 0o644); err != nil {
					return commits, err
				}
			}
			if len(files) > round {
				if err := commit(); err != nil {
					return commits, err
				}
			}
		}
	}
	return commits, git("gc", "-q")
}

func processor() string {
	content, _ := os.ReadFile("/proc/cpuinfo")
	for line := range strings.Lines(string(content)) {
		if name, found := strings.CutPrefix(line, "model name\t: "); found {
			return strings.TrimSpace(name)
		}
	}
	return runtime.GOARCH
}

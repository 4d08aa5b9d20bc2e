// Package testkit gives tests the real parts: a PostgreSQL cluster, a service on
// loopback, the client program, a browser.
package testkit

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/internal/cluster"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/daemon"
	"adytum.example/internal/service"
	"adytum.example/internal/storage"
)

// shared is what the tests of one package share.
var shared struct {
	sync.Mutex
	folder    string
	cluster   *cluster.Cluster
	urls      storage.URLs
	databases int
	program   map[string]string
}

// Main runs a package's tests and ends what they shared.
func Main(m *testing.M) {
	code := m.Run()
	if shared.cluster != nil {
		if err := shared.cluster.Stop(); err != nil {
			fmt.Fprintln(os.Stderr, "testkit: stop PostgreSQL:", err)
			code = max(code, 1)
		}
	}
	if shared.folder != "" {
		_ = os.RemoveAll(shared.folder)
	}
	os.Exit(code)
}

// Folder is a temporary folder that every user can enter, unlike t.TempDir's.
func Folder(t testing.TB) string {
	t.Helper()
	folder, err := os.MkdirTemp("", "adytum-test-*")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	return folder
}

// Cluster is the package's PostgreSQL, started with the first use.
func Cluster(t testing.TB) *cluster.Cluster {
	t.Helper()
	shared.Lock()
	defer shared.Unlock()
	start(t)
	return shared.cluster
}

const template = "adytum_template"

func start(t testing.TB) {
	t.Helper()
	if shared.cluster != nil {
		return
	}
	folder, err := os.MkdirTemp("", "adytum-test-*")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o755))
	shared.folder = folder
	ctx := context.Background()
	shared.cluster, err = cluster.Start(ctx, filepath.Join(folder, "postgres"), cluster.Options{Unsafe: true})
	require.NoError(t, err)
	shared.urls, err = storage.Bootstrap(ctx, shared.cluster.URL("postgres"), template)
	require.NoError(t, err)
	require.NoError(t, daemon.Migrate(ctx, shared.urls.Migrate))
}

// Database makes an empty, migrated database.
func Database(t testing.TB) (urls storage.URLs, admin string) {
	t.Helper()
	shared.Lock()
	defer shared.Unlock()
	start(t)
	shared.databases++
	name := fmt.Sprintf("test_%d", shared.databases)
	conn, err := pgx.Connect(context.Background(), shared.cluster.URL("postgres"))
	require.NoError(t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(context.Background(), "CREATE DATABASE "+name+" TEMPLATE "+template)
	require.NoError(t, err)
	at := func(address string) string {
		u, err := url.Parse(address)
		require.NoError(t, err)
		u.Path = "/" + name
		return u.String()
	}
	return storage.URLs{Service: at(shared.urls.Service), Flush: at(shared.urls.Flush), Migrate: at(shared.urls.Migrate), Jobs: at(shared.urls.Jobs)}, at(shared.cluster.URL("x"))
}

// The owner of every test's installation.
const (
	OwnerLogin    = "ines@fernhollow.example"
	OwnerName     = "Ines Okafor"
	OwnerPassword = "reading-room-after-dark"
)

// Service is a running service with an installation of its own.
type Service struct {
	URL    string
	Config daemon.Config
	Admin  string // URL of its database for the administrator
	Log    *Log
	stop   func()
	ahead  *atomic.Int64 // of the system's clock, in nanoseconds
}

// Later puts the service's clock forward.
func (s *Service) Later(d time.Duration) { s.ahead.Add(int64(d)) }

// Start makes an installation and serves it.
func Start(t testing.TB) *Service {
	t.Helper()
	urls, admin := Database(t)
	c := daemon.Defaults
	c.Listen, c.Database, c.Flush, c.Migrate, c.Jobs = "127.0.0.1:0", urls.Service, urls.Flush, urls.Migrate, urls.Jobs
	c.RootKeyFile = filepath.Join(t.TempDir(), "root.key")
	ahead := &atomic.Int64{}
	c.Now = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
	s := &Service{Config: c, Admin: admin, Log: &Log{}, ahead: ahead}
	owner := service.Owner{Login: OwnerLogin, Name: OwnerName, Password: secret.FromString(OwnerPassword)}
	require.NoError(t, daemon.SetUp(context.Background(), c, "Fernhollow Libraries", owner, s.logger()))
	s.Serve(t)
	return s
}

func (s *Service) logger() *slog.Logger { return Logger(s.Log) }

// Logger is a logger that writes everything into a Log.
func Logger(l *Log) *slog.Logger {
	return slog.New(slog.NewJSONHandler(l, &slog.HandlerOptions{Level: slog.LevelDebug}))
}

// Serve serves the installation, again after Stop.
func (s *Service) Serve(t testing.TB) {
	t.Helper()
	require.NoError(t, s.TryServe(t), "serve")
}

// TryServe tries to serve the installation, and returns why it does not start.
func (s *Service) TryServe(t testing.TB) error {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan string, 1), make(chan error, 1)
	go func() { ended <- daemon.Serve(ctx, s.Config, s.logger(), func(url string) { ready <- url }) }()
	select {
	case s.URL = <-ready:
	case err := <-ended:
		cancel()
		return err
	case <-time.After(30 * time.Second):
		cancel()
		require.Fail(t, "the service did not start")
	}
	var once sync.Once
	s.stop = func() { once.Do(func() { cancel(); <-ended }) }
	t.Cleanup(s.stop)
	return nil
}

// Stop ends the service; its database stays.
func (s *Service) Stop() { s.stop() }

// Client is a client that is signed in as a person.
func (s *Service) Client(t testing.TB, login, password string) *client.Client {
	t.Helper()
	c, err := client.New(s.URL)
	require.NoError(t, err)
	_, err = c.SignIn(context.Background(), login, password)
	require.NoError(t, err)
	return c
}

// Owner is a client that is signed in as the owner.
func (s *Service) Owner(t testing.TB) *client.Client {
	t.Helper()
	return s.Client(t, OwnerLogin, OwnerPassword)
}

// SQL runs a statement as the database's administrator, past all policies, and
// returns how many rows it touched.
func (s *Service) SQL(t testing.TB, statement string, args ...any) int64 {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), s.Admin)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(context.Background(), "SET search_path = adytum")
	require.NoError(t, err)
	tag, err := conn.Exec(context.Background(), statement, args...)
	require.NoError(t, err, statement)
	return tag.RowsAffected()
}

// TrySQL runs a statement as the service's role in the organization's scope, and
// returns why it is refused.
func (s *Service) TrySQL(t testing.TB, statement string) (int64, error) {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), s.Config.Database)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(context.Background(), "SET search_path = adytum; SET adytum.scope = '{0}'")
	require.NoError(t, err)
	tag, err := conn.Exec(context.Background(), statement)
	return tag.RowsAffected(), err
}

// Log keeps what a service logged.
type Log struct {
	mu   sync.Mutex
	text strings.Builder
}

func (l *Log) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(b)
}

func (l *Log) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// Root is the repository's folder.
func Root(t testing.TB) string {
	t.Helper()
	_, file, _, known := runtime.Caller(0)
	require.True(t, known)
	return filepath.Join(filepath.Dir(file), "..", "..")
}

// Program builds one of the programs, once per package, and returns its path.
func Program(t testing.TB, name string) string {
	t.Helper()
	shared.Lock()
	defer shared.Unlock()
	if path := shared.program[name]; path != "" {
		return path
	}
	if shared.folder == "" {
		folder, err := os.MkdirTemp("", "adytum-test-*")
		require.NoError(t, err)
		require.NoError(t, os.Chmod(folder, 0o755))
		shared.folder = folder
	}
	path := filepath.Join(shared.folder, name)
	build := exec.Command("go", "build", "-o", path, "./cmd/"+name)
	build.Dir = Root(t)
	output, err := build.CombinedOutput()
	require.NoError(t, err, "%s", output)
	if shared.program == nil {
		shared.program = map[string]string{}
	}
	shared.program[name] = path
	return path
}

// Result is how a program ended.
type Result struct {
	Code           int
	Stdout, Stderr string
}

// Shell runs the client program in a folder of its own.
type Shell struct {
	Folder string
	Env    []string // beside PATH and HOME
	home   string
}

// NewShell returns a Shell in a folder with a home of its own.
func NewShell(t testing.TB, folder string) *Shell {
	t.Helper()
	return &Shell{Folder: folder, home: t.TempDir()}
}

// Run runs the client program with some standard input.
func (s *Shell) Run(t testing.TB, stdin string, args ...string) Result {
	t.Helper()
	return s.Exec(t, stdin, Program(t, "adytum"), args...)
}

// Exec runs a program with some standard input and waits for it, a minute at most.
func (s *Shell) Exec(t testing.TB, stdin, program string, args ...string) Result {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir = s.Folder
	cmd.Env = append([]string{"PATH=" + os.Getenv("PATH"), "HOME=" + s.home, "LANG=C.UTF-8", "TZ=UTC"}, s.Env...)
	cmd.Stdin = strings.NewReader(stdin)
	var out, err strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &err
	runErr := cmd.Run()
	if cmd.ProcessState == nil {
		require.NoError(t, runErr)
	}
	require.NoError(t, ctx.Err(), "%s %s took too long", program, strings.Join(args, " "))
	return Result{cmd.ProcessState.ExitCode(), out.String(), err.String()}
}

// OK runs the client program, which must succeed.
func (s *Shell) OK(t testing.TB, stdin string, args ...string) Result {
	t.Helper()
	r := s.Run(t, stdin, args...)
	require.Equal(t, 0, r.Code, "adytum %s: %s%s", strings.Join(args, " "), r.Stdout, r.Stderr)
	return r
}

// SignIn signs the shell's home in as the owner of a service.
func (s *Shell) SignIn(t testing.TB, service *Service) {
	t.Helper()
	s.OK(t, OwnerPassword+"\n", "login", service.URL, "--login", OwnerLogin, "--password-stdin")
}

// Git runs git in a folder, which must succeed, as somebody made up.
func Git(t testing.TB, folder string, args ...string) string {
	t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = folder
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + folder, "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_NOSYSTEM=1", "LC_ALL=C",
		"GIT_AUTHOR_NAME=Tomasz Lindqvist", "GIT_AUTHOR_EMAIL=tomasz@fernhollow.example", "GIT_COMMITTER_NAME=Tomasz Lindqvist", "GIT_COMMITTER_EMAIL=tomasz@fernhollow.example"}
	output, err := cmd.CombinedOutput()
	require.NoError(t, err, "git %s: %s", strings.Join(args, " "), output)
	return strings.TrimSpace(string(output))
}

// Write writes a file below a folder, with its folders.
func Write(t testing.TB, folder, path, content string) {
	t.Helper()
	full := filepath.Join(folder, path)
	require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(t, os.WriteFile(full, []byte(content), 0o644))
}

// Quiet is a logger that says nothing.
func Quiet() *slog.Logger { return slog.New(slog.NewTextHandler(io.Discard, nil)) }

// TryOwner tries to sign the owner in and returns the error.
func (s *Service) TryOwner(t testing.TB) (*client.Client, error) {
	t.Helper()
	c, err := client.New(s.URL)
	require.NoError(t, err)
	_, err = c.SignIn(context.Background(), OwnerLogin, OwnerPassword)
	return c, err
}

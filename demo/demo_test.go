package demo_test

import (
	"bufio"
	"context"
	"encoding/json"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/demo"
	"adytum.example/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

type running struct {
	demo.Demo
	cmd *exec.Cmd
}

// start starts the demo as a program and waits for its line.
func start(t *testing.T, home string) *running {
	t.Helper()
	r := &running{cmd: exec.Command(testkit.Program(t, "adytumd"), "demo", "--home", home, "--listen", "127.0.0.1:0", "--output", "json")}
	r.cmd.Stderr = os.Stderr
	stdout, err := r.cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, r.cmd.Start())
	t.Cleanup(func() { _ = r.cmd.Process.Kill() })
	line, err := bufio.NewReader(stdout).ReadString('\n')
	require.NoError(t, err, "the demo did not start")
	require.NoError(t, json.Unmarshal([]byte(line), &r.Demo))
	return r
}

func (r *running) end(t *testing.T, s syscall.Signal) {
	t.Helper()
	require.NoError(t, r.cmd.Process.Signal(s))
	require.NoError(t, r.cmd.Wait(), "a signal ends the demo well")
	u, err := url.Parse(r.Database)
	require.NoError(t, err)
	left, _ := exec.Command("pgrep", "-f", filepath.Join("postgres", "data")+".*port="+u.Port()).Output()
	assert.Empty(t, string(left), "no process is left behind")
}

func TestTheDemoStartsEndsAndGoesOn(t *testing.T) {
	for name, parent := range map[string]string{"a folder that all can enter": testkit.Folder(t), "a folder that is closed to others": t.TempDir()} {
		t.Run(name, func(t *testing.T) {
			home := filepath.Join(parent, "demo")
			if strings.Contains(name, "closed") {
				require.NoError(t, os.Chmod(parent, 0o700))
				t.Cleanup(func() {
					if cluster, err := os.Readlink(filepath.Join(home, "postgres")); err == nil {
						_ = os.RemoveAll(cluster)
					}
				})
			}
			first := start(t, home)
			assert.Equal(t, home, first.Home)
			require.Len(t, first.People, 4)
			require.Len(t, first.Workloads, 4)
			require.Len(t, first.Repositories, 3)

			// A second demo on the same home while the first runs.
			output, err := exec.Command(testkit.Program(t, "adytumd"), "demo", "--home", home, "--listen", "127.0.0.1:0").CombinedOutput()
			require.Error(t, err)
			assert.Contains(t, string(output), home+" is in use; end that one or choose another folder with --home")

			before := look(t, first)
			first.end(t, syscall.SIGTERM)
			second := start(t, home)
			assert.Equal(t, first.People, second.People, "the same people with the same passwords")
			assert.Equal(t, first.Workloads, second.Workloads)
			assert.Equal(t, first.Repositories, second.Repositories)
			assert.Equal(t, before, look(t, second), "the same data")
			second.end(t, syscall.SIGINT)
		})
	}
}

// look reads some of the demo's data as its workload and its owner.
func look(t *testing.T, r *running) []string {
	t.Helper()
	ctx := context.Background()
	c, err := client.New(r.URL)
	require.NoError(t, err)
	_, err = c.SignInWorkload(ctx, r.Workloads[0].ClientID, r.Workloads[0].ClientSecret)
	require.NoError(t, err)
	v, err := c.Value(ctx, client.Place{Project: "loans", Environment: "live"}, "PGPASSWORD")
	require.NoError(t, err)
	_, err = c.SignIn(ctx, r.People[0].Login, r.People[0].Password)
	require.NoError(t, err)
	verification, err := c.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.True(t, verification.Whole, "%v", verification.Problems)
	entries := 0
	seen := []string{v.Value}
	projects, err := c.Projects(ctx)
	require.NoError(t, err)
	for _, p := range projects {
		for _, e := range p.Environments {
			all, err := c.Entries(ctx, client.Place{Project: p.Name, Environment: e.Name})
			require.NoError(t, err)
			for _, entry := range all.Entries {
				if entry.Origin == "here" {
					entries++
				}
			}
		}
		seen = append(seen, p.Name)
	}
	assert.Greater(t, entries, 30)
	return seen
}

func TestADemoThatWasKilledStartsAgain(t *testing.T) {
	home := filepath.Join(testkit.Folder(t), "demo")
	first := start(t, home)
	before := look(t, first)
	require.NoError(t, first.cmd.Process.Kill())
	_ = first.cmd.Wait()
	time.Sleep(100 * time.Millisecond)
	second := start(t, home)
	assert.Equal(t, before, look(t, second))
	second.end(t, syscall.SIGTERM)
}

func TestADemoWhoseOutputNobodyReadsEndsAndLeavesNothing(t *testing.T) {
	home := filepath.Join(testkit.Folder(t), "demo")
	reader, writer, err := os.Pipe()
	require.NoError(t, err)
	require.NoError(t, reader.Close())
	cmd := exec.Command(testkit.Program(t, "adytumd"), "demo", "--home", home, "--listen", "127.0.0.1:0", "--output", "json")
	cmd.Stdout = writer
	require.NoError(t, cmd.Start())
	require.NoError(t, writer.Close())
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	select {
	case err := <-ended:
		assert.Error(t, err)
	case <-time.After(60 * time.Second):
		_ = cmd.Process.Kill()
		assert.Fail(t, "the demo did not end")
	}
	left, _ := exec.Command("pgrep", "-f", home).Output()
	assert.Empty(t, string(left), "no process is left behind")
}

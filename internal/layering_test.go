package internal_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const module = "adytum.example/"

// rooms says which rooms each room may import from. What is not listed may
// import from nowhere in the house.
var rooms = map[string][]string{
	"internal/core":    {"internal/core"},
	"internal/storage": {"internal/core"},
	"internal/service": {"internal/core", "internal/storage", "client/wire"},
	"internal/api":     {"internal/core", "internal/service", "client/wire"},
	"internal/jobs":    {"internal/service"},
	"internal/console": {},
	"internal/source":  {"internal/core"},
	"internal/deliver": {"internal/core"},
	"internal/command": {"internal/core", "internal/source", "internal/deliver", "client"},
	"internal/cluster": {},
	"internal/outside": {"internal/core"},
	"internal/standin": {},
	"internal/daemon":  {"internal/core", "internal/storage", "internal/service", "internal/api", "internal/console", "internal/jobs", "internal/outside"},
	"client":           {"client/wire", "internal/core"},
	"client/wire":      {},
	"cmd/adytum":       {"internal/command"},
	"cmd/adytumd":      {"internal/core", "internal/storage", "internal/service", "internal/daemon", "demo"},
	"demo":             {"internal/core", "internal/storage", "internal/service", "internal/daemon", "internal/cluster", "internal/standin", "client", "demo", "internal/testkit"},
	"internal/testkit": {"internal/standin", "internal/core", "internal/storage", "internal/service", "internal/daemon", "internal/cluster", "client"},
}

// room is the room that a package belongs to: the longest name that fits.
func room(path string) string {
	path = strings.TrimPrefix(path, module)
	best := ""
	for name := range rooms {
		if (path == name || strings.HasPrefix(path, name+"/")) && len(name) > len(best) {
			best = name
		}
	}
	return best
}

func list(t *testing.T, args ...string) []string {
	t.Helper()
	cmd := exec.Command("go", append([]string{"list"}, args...)...)
	cmd.Dir = ".."
	out, err := cmd.Output()
	require.NoError(t, err)
	return strings.Split(strings.TrimSpace(string(out)), "\n")
}

func TestTheArrowsGoOneWay(t *testing.T) {
	for _, line := range list(t, "-f", `{{.ImportPath}} {{join .Imports " "}}`, "./cmd/...", "./client/...", "./internal/...", "./demo/...") {
		fields := strings.Fields(line)
		from := room(fields[0])
		if fields[0] == module+"internal" {
			continue
		}
		require.NotEmpty(t, from, "%s is in no room; say in this test what it may import", fields[0])
		for _, imported := range fields[1:] {
			if !strings.HasPrefix(imported, module) {
				if strings.HasPrefix(fields[0], module+"internal/core/") {
					assert.NotContains(t, []string{"net/http", "net", "os/exec", "database/sql", "gorm.io/gorm"}, imported, "%s: the core has no network, no database and starts no program", fields[0])
				}
				continue
			}
			to := room(imported)
			allowed := from == to || contains(rooms[from], to)
			assert.True(t, allowed, "%s imports %s: %s may not import from %s", fields[0], imported, from, to)
		}
	}
}

func contains(all []string, room string) bool {
	for _, r := range all {
		if r == room || r == "client" && room == "client/wire" {
			return true
		}
	}
	return false
}

func TestTheClientLinksNoServer(t *testing.T) {
	for _, dependency := range list(t, "-deps", "./cmd/adytum") {
		for _, heavy := range []string{"gorm.io/", "github.com/danielgtaylor/huma", "github.com/jackc/pgx", "github.com/go-chi/chi"} {
			assert.False(t, strings.HasPrefix(dependency, heavy), "the client links %s; it must start in a few milliseconds", dependency)
		}
	}
}

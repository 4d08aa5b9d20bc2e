package sweep_test

import (
	"os"
	"path/filepath"
	"testing"

	"adytum.example/internal/core/sweep"
)

// BenchmarkFind searches Go's own sources and gives the rate of one core.
func BenchmarkFind(b *testing.B) {
	type file struct {
		path string
		data []byte
	}
	var files []file
	var total int64
	paths, _ := filepath.Glob(filepath.Join(os.Getenv("SWEEP_BENCH"), "*"))
	for _, p := range paths {
		if data, err := os.ReadFile(p); err == nil {
			files = append(files, file{p, data})
			total += int64(len(data))
		}
	}
	if total == 0 {
		b.Skip("SWEEP_BENCH names no folder with files")
	}
	engine := sweep.NewEngine(sweep.Catalogue())
	b.SetBytes(total)
	for b.Loop() {
		for _, f := range files {
			engine.Find(f.data, sweep.Hint{Path: f.path})
		}
	}
}

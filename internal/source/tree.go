package source

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sort"
	"sync"
	"sync/atomic"
	"syscall"

	"adytum.example/internal/core/sweep"
)

// TreeOptions say how a working tree is searched.
type TreeOptions struct {
	Everything bool // all files, not just those that git tracks or does not ignore
}

// Tree searches a working tree: in a git repository what git tracks and what it
// does not ignore, elsewhere all files. Links are not followed; devices and
// pipes are not read.
func Tree(ctx context.Context, engine *sweep.Engine, folder string, o TreeOptions) (*sweep.Report, error) {
	root, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	info, err := os.Stat(root)
	if err != nil {
		return nil, fmt.Errorf("there is no folder %s", folder)
	}
	if !info.IsDir() {
		return nil, fmt.Errorf("%s is a file; name the folder it lies in", folder)
	}
	report := &sweep.Report{Source: "tree", Root: root, Unsearched: []sweep.Gap{}}
	var paths []string
	r, err := open(ctx, root)
	switch {
	case err == nil && !o.Everything && r.hasTree(ctx):
		paths, err = r.files(ctx)
	case err != nil && !errors.Is(err, ErrNoRepository) && !o.Everything:
		return nil, err
	default:
		paths, err = walk(ctx, root, report)
	}
	if err != nil {
		return nil, err
	}
	searchFiles(ctx, engine, root, paths, report)
	return report, ctx.Err()
}

// hasTree tells whether the repository has a working tree here.
func (r repository) hasTree(ctx context.Context) bool {
	out, err := r.output(ctx, "rev-parse", "--is-inside-work-tree")
	return err == nil && string(out) == "true\n"
}

// files are the tracked files and those that are neither tracked nor ignored,
// below the folder, relative to it.
func (r repository) files(ctx context.Context) ([]string, error) {
	seen := map[string]bool{}
	var paths []string
	err := r.lines(ctx, 0, func(path []byte) error {
		if !seen[string(path)] {
			seen[string(path)] = true
			paths = append(paths, string(path))
		}
		return nil
	}, "ls-files", "-z", "--cached", "--others", "--exclude-standard")
	return paths, err
}

// walk lists all files below root but git's own.
func walk(ctx context.Context, root string, report *sweep.Report) ([]string, error) {
	var paths []string
	err := filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			report.Unsearched = append(report.Unsearched, sweep.Gap{What: slashed(root, path), Why: reason(err)})
			if entry != nil && entry.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if entry.IsDir() {
			if entry.Name() == ".git" {
				return fs.SkipDir
			}
			return nil
		}
		if entry.Type().IsRegular() {
			paths = append(paths, slashed(root, path))
		}
		return nil
	})
	return paths, err
}

// found is what one worker gives for one file.
type found struct {
	path string
	hits []sweep.Hit
	gap  string
}

// searchFiles searches files on all cores and adds what they hold to the report.
func searchFiles(ctx context.Context, engine *sweep.Engine, root string, paths []string, report *sweep.Report) {
	var (
		next    atomic.Int64
		bytes   atomic.Int64
		files   atomic.Int64
		group   sync.WaitGroup
		mu      sync.Mutex
		results []found
	)
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() {
			s := sweep.NewSearcher(engine)
			for ctx.Err() == nil {
				i := int(next.Add(1)) - 1
				if i >= len(paths) {
					return
				}
				hits, size, searched, err := searchFile(s, root, paths[i])
				bytes.Add(size)
				if searched {
					files.Add(1)
				}
				if len(hits) == 0 && err == nil {
					continue
				}
				f := found{path: paths[i], hits: hits}
				if err != nil {
					f.gap = reason(err)
				}
				mu.Lock()
				results = append(results, f)
				mu.Unlock()
			}
		})
	}
	group.Wait()
	report.Files, report.Bytes = int(files.Load()), bytes.Load()
	sort.Slice(results, func(i, j int) bool { return results[i].path < results[j].path })
	c := sweep.NewCollector()
	for _, f := range results {
		for _, h := range f.hits {
			c.Add(h, sweep.Place{Path: f.path})
		}
		if f.gap != "" {
			report.Unsearched = append(report.Unsearched, sweep.Gap{What: f.path, Why: f.gap})
		}
	}
	report.Findings = c.Findings()
}

// searchFile searches one regular file; links, folders and devices are passed
// over. A file that was listed and has gone is no gap: there is nothing left.
func searchFile(s *sweep.Searcher, root, path string) (hits []sweep.Hit, size int64, searched bool, err error) {
	full := filepath.Join(root, filepath.FromSlash(path))
	// O_NONBLOCK: a pipe that took the file's place must not hold us up.
	f, err := os.OpenFile(full, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK|syscall.O_CLOEXEC, 0)
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ELOOP):
		return nil, 0, false, nil
	case err != nil:
		return nil, 0, false, err
	}
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return nil, 0, false, err
	case info.IsDir():
		return nil, 0, false, errors.New("a repository of its own within this one; sweep it by its own path")
	case !info.Mode().IsRegular():
		return nil, 0, false, nil
	}
	hits, size, err = s.Search(onlyReader{f}, sweep.Hint{Path: path})
	return hits, size, err == nil, err
}

// onlyReader hides everything of a file but Read.
type onlyReader struct{ io.Reader }

// reason is an error without the path, which stands beside it.
func reason(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}

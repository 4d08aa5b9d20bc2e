package source

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"adytum.example/internal/core/sweep"
)

// History searches every blob, and every commit's and tag's message, that any
// reference of a repository reaches, each distinct object once. For what it
// finds it tells the commit and path that brought it in, the commit that took it
// out, and whether a tip still has it.
func History(ctx context.Context, engine *sweep.Engine, folder string) (*sweep.Report, error) {
	r, err := open(ctx, folder)
	if err != nil {
		return nil, err
	}
	h := &history{repository: r, engine: engine, report: &sweep.Report{Source: "history", Root: folder, Unsearched: []sweep.Gap{}}}
	if root, err := r.output(ctx, "rev-parse", "--absolute-git-dir"); err == nil {
		h.report.Root = strings.TrimSuffix(strings.TrimSuffix(strings.TrimSpace(string(root)), "/.git"), "/")
	}
	if shallow, err := r.output(ctx, "rev-parse", "--is-shallow-repository"); err == nil && string(shallow) == "true\n" {
		h.gap("the history before the oldest commit here", "the repository is a shallow clone; fetch the rest with \"git fetch --unshallow\"")
	}
	objects, err := h.list(ctx)
	if err != nil {
		return nil, err
	}
	hits := h.searchAll(ctx, objects)
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	h.locate(ctx, hits)
	return h.report, nil
}

type history struct {
	repository
	engine *sweep.Engine
	report *sweep.Report
}

func (h *history) gap(what, why string) {
	h.report.Unsearched = append(h.report.Unsearched, sweep.Gap{What: what, Why: why})
}

// object is something to search.
type object struct {
	id   string
	kind string // blob, commit, tag
	path string // one of the paths that a blob has had, as a hint to what it is
}

// objectHits are the hits in one object.
type objectHits struct {
	object
	hits []sweep.Hit
}

// list lists the reachable blobs, commits and tags in the order of the packs,
// in which git reads fastest. In a repository whose graph cannot be walked it
// lists every object there is.
func (h *history) list(ctx context.Context) ([]object, error) {
	reachable := map[string]string{}
	walkErr := h.lines(ctx, '\n', func(line []byte) error {
		id, path, _ := strings.Cut(string(line), " ")
		reachable[id] = path
		return nil
	}, "rev-list", "--objects", "--all", "--reflog")
	if walkErr != nil {
		h.gap("which objects are reachable", strings.TrimPrefix(walkErr.Error(), "git rev-list: ")+"; every object that can be read was searched instead")
	}
	var all []object
	err := h.lines(ctx, '\n', func(line []byte) error {
		id, kind, _ := strings.Cut(string(line), " ")
		path, reached := reachable[id]
		if kind != "tree" && (walkErr != nil || reached) {
			delete(reachable, id)
			all = append(all, object{id, kind, path})
		}
		return nil
	}, "cat-file", "--batch-all-objects", "--unordered", "--batch-check=%(objectname) %(objecttype)")
	if err != nil && len(all) == 0 {
		return nil, err
	}
	return all, nil
}

// searchAll reads the objects through one git process per core.
func (h *history) searchAll(ctx context.Context, objects []object) []objectHits {
	var (
		group sync.WaitGroup
		mu    sync.Mutex
		all   []objectHits
	)
	workers := min(runtime.GOMAXPROCS(0), len(objects)/64+1)
	for w := range workers {
		part := objects[len(objects)*w/workers : len(objects)*(w+1)/workers]
		group.Go(func() {
			s := &objectSearch{history: h, searcher: sweep.NewSearcher(h.engine)}
			s.run(ctx, part)
			mu.Lock()
			defer mu.Unlock()
			all = append(all, s.found...)
			h.report.Files += s.files
			h.report.Bytes += s.bytes
			h.report.Unsearched = append(h.report.Unsearched, s.gaps...)
		})
	}
	group.Wait()
	return all
}

type objectSearch struct {
	*history
	searcher *sweep.Searcher
	found    []objectHits
	files    int
	bytes    int64
	gaps     []sweep.Gap
}

// run searches objects. Git gives up at an object that it cannot read; that one
// is named, and the rest is read by a new process.
func (s *objectSearch) run(ctx context.Context, objects []object) {
	for len(objects) > 0 && ctx.Err() == nil {
		done, why := s.batch(ctx, objects)
		if done < len(objects) {
			s.gaps = append(s.gaps, sweep.Gap{What: objects[done].kind + " " + objects[done].id, Why: why})
			done++
		}
		objects = objects[done:]
	}
}

// batch reads objects through one git process until one cannot be read; it
// returns how many were read.
func (s *objectSearch) batch(ctx context.Context, objects []object) (done int, why string) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	cmd := s.command(ctx, "cat-file", "--batch", "--buffer")
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	stdin, err := cmd.StdinPipe()
	if err != nil {
		return 0, err.Error()
	}
	stdout, err := cmd.StdoutPipe()
	if err != nil {
		return 0, err.Error()
	}
	if err := cmd.Start(); err != nil {
		return 0, err.Error()
	}
	go func() {
		w := bufio.NewWriterSize(stdin, 64<<10)
		for _, o := range objects {
			_, _ = w.WriteString(o.id + "\n")
		}
		_ = w.Flush()
		_ = stdin.Close()
	}()
	reader := bufio.NewReaderSize(stdout, 256<<10)
	for done < len(objects) {
		if why = s.one(reader, objects[done]); why != "" {
			break
		}
		done++
	}
	cancel()
	_ = cmd.Wait()
	if said := strings.TrimSpace(stderr.String()); why != "" && said != "" {
		why = complaint([]byte(said), errors.New(why))
	}
	return done, why
}

// one reads and searches the next object; it returns why that failed.
func (s *objectSearch) one(reader *bufio.Reader, o object) string {
	header, err := reader.ReadString('\n')
	if err != nil {
		return "git cannot read the object"
	}
	fields := strings.Fields(header)
	if len(fields) != 3 {
		return "the object is missing"
	}
	size, err := strconv.ParseInt(fields[2], 10, 64)
	if err != nil {
		return "git gave no size"
	}
	content := io.LimitReader(reader, size)
	hits, n, err := s.searcher.Search(content, sweep.Hint{Path: o.path})
	if err != nil || n != size {
		return "the object is cut short"
	}
	if _, err := reader.Discard(1); err != nil {
		return "the object is cut short"
	}
	s.files++
	s.bytes += n
	if len(hits) > 0 {
		s.found = append(s.found, objectHits{o, hits})
	}
	return ""
}

// sighting is where and when a blob came in.
type sighting struct {
	commit, author, path string
	date                 time.Time
	removedBy            string
}

// locate finds the commits and paths of the objects with hits, and fills the
// report.
func (h *history) locate(ctx context.Context, found []objectHits) {
	sort.Slice(found, func(i, j int) bool { return found[i].id < found[j].id })
	wanted := map[string]bool{}
	for _, f := range found {
		wanted[f.id] = true
	}
	sightings, tips := map[string][]sighting{}, map[string]bool{}
	if len(found) > 0 {
		if err := h.walk(ctx, wanted, sightings); err != nil {
			h.report.Notes = append(h.report.Notes, "the commits that brought the findings in could not all be told: "+err.Error())
		}
		tips = h.tips(ctx, wanted)
	}
	c := sweep.NewCollector()
	for _, f := range found {
		for _, place := range h.places(ctx, f, sightings[f.id], tips[f.id]) {
			for _, hit := range f.hits {
				c.Add(hit, place)
			}
		}
	}
	h.report.Findings = c.Findings()
}

func (h *history) places(ctx context.Context, f objectHits, seen []sighting, atTip bool) []sweep.Place {
	if f.kind == "commit" || f.kind == "tag" {
		p := sweep.Place{Path: "(message of " + f.kind + " " + f.id[:12] + ")", Object: f.id, AtTip: &atTip}
		if f.kind == "commit" {
			p.Commit = f.id
			if out, err := h.output(ctx, "show", "--no-patch", "--format=%an%x00%at", f.id); err == nil {
				author, at, _ := strings.Cut(strings.TrimSpace(string(out)), "\x00")
				p.Author, p.Date = author, unixTime(at)
			}
		}
		return []sweep.Place{p}
	}
	if len(seen) == 0 {
		return []sweep.Place{{Path: "(object " + f.id[:12] + ")", Object: f.id, AtTip: &atTip}}
	}
	var places []sweep.Place
	for _, s := range seen {
		there := atTip && s.removedBy == ""
		places = append(places, sweep.Place{Path: s.path, Object: f.id, Commit: s.commit, Author: s.author, Date: &s.date, RemovedBy: s.removedBy, AtTip: &there})
	}
	return places
}

func unixTime(text string) *time.Time {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return nil
	}
	t := time.Unix(n, 0).UTC()
	return &t
}

// walk goes through all commits from the oldest on and notes where the wanted
// blobs came in and went out, per path.
func (h *history) walk(ctx context.Context, wanted map[string]bool, sightings map[string][]sighting) error {
	var current sighting
	present := map[string]map[string]int{} // blob, path: index of the sighting
	return h.lines(ctx, '\n', func(line []byte) error {
		if bytes.HasPrefix(line, []byte("commit\x00")) {
			parts := strings.Split(string(line), "\x00")
			if len(parts) != 4 {
				return fmt.Errorf("git log gave a line that was not expected")
			}
			current = sighting{commit: parts[1], author: parts[2]}
			if at := unixTime(parts[3]); at != nil {
				current.date = *at
			}
			return nil
		}
		before, after, path, ok := rawLine(line)
		if !ok {
			return nil
		}
		if wanted[before] && before != after {
			if i, there := present[before][path]; there {
				sightings[before][i].removedBy = current.commit
				delete(present[before], path)
			}
		}
		if wanted[after] {
			if _, there := present[after][path]; there {
				return nil
			}
			if present[after] == nil {
				present[after] = map[string]int{}
			}
			s := current
			s.path = path
			present[after][path] = len(sightings[after])
			sightings[after] = append(sightings[after], s)
		}
		return nil
	}, "log", "--all", "--reflog", "--reverse", "--topo-order", "--raw", "--no-abbrev", "--no-renames", "--root", "--diff-merges=first-parent",
		"--no-ext-diff", "--no-textconv", "--no-color", "--format=commit%x00%H%x00%an%x00%at")
}

// rawLine reads ":100644 100644 BEFORE AFTER M\tPATH".
func rawLine(line []byte) (before, after, path string, ok bool) {
	if len(line) == 0 || line[0] != ':' {
		return "", "", "", false
	}
	head, name, found := strings.Cut(string(line), "\t")
	fields := strings.Fields(head)
	if !found || len(fields) < 5 {
		return "", "", "", false
	}
	return fields[2], fields[3], unquote(name), true
}

// unquote undoes git's quoting of paths with control characters or quotes.
func unquote(path string) string {
	if !strings.HasPrefix(path, `"`) {
		return path
	}
	var out []byte
	body := strings.TrimSuffix(path[1:], `"`)
	for i := 0; i < len(body); i++ {
		if body[i] != '\\' || i+1 >= len(body) {
			out = append(out, body[i])
			continue
		}
		i++
		if n, err := strconv.ParseUint(body[i:min(i+3, len(body))], 8, 8); err == nil && i+3 <= len(body) {
			out = append(out, byte(n))
			i += 2
			continue
		}
		switch c := body[i]; c {
		case 'n':
			out = append(out, '\n')
		case 't':
			out = append(out, '\t')
		case 'r':
			out = append(out, '\r')
		default:
			out = append(out, c)
		}
	}
	return string(out)
}

// tips tells which of the wanted objects a branch or tag has now.
func (h *history) tips(ctx context.Context, wanted map[string]bool) map[string]bool {
	at := map[string]bool{}
	// What cannot be told is then said to be gone, which places show as unknown.
	_ = h.lines(ctx, '\n', func(line []byte) error {
		if id, _, _ := strings.Cut(string(line), " "); wanted[id] {
			at[id] = true
		}
		return nil
	}, "rev-list", "--objects", "--no-walk", "--branches", "--tags", "--remotes", "HEAD")
	return at
}

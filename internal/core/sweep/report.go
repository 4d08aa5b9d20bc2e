package sweep

import (
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"sort"
	"strings"
)

// placesShown is how many places of one finding the text report lists.
const placesShown = 6

// WriteText writes a report for a person: worst first, each finding with where
// it stands and what to do, and at the end what it comes to.
func (r *Report) WriteText(w io.Writer, paint func(Severity, string) string) error {
	var b strings.Builder
	for _, f := range r.Findings {
		fmt.Fprintf(&b, "%s  %s  (%s, %s)\n", paint(f.Severity, strings.ToUpper(string(f.Severity))), f.Finds, f.Rule, confidenceWord(f.Confidence))
		for i, p := range f.Places {
			if i == placesShown {
				fmt.Fprintf(&b, "    and at %d more places\n", len(f.Places)-placesShown)
				break
			}
			writePlace(&b, p)
		}
		fmt.Fprintf(&b, "    what to do: %s\n    id: %s\n\n", f.Remedy, f.ID)
	}
	r.writeEnd(&b)
	_, err := io.WriteString(w, b.String())
	return err
}

func writePlace(b *strings.Builder, p Place) {
	fmt.Fprintf(b, "    %s:%d:%d  %s\n", Printable(p.Path), p.Line, p.Column, p.Excerpt)
	if p.Commit == "" {
		return
	}
	fmt.Fprintf(b, "      came in with %.10s", p.Commit)
	if p.Date != nil {
		fmt.Fprintf(b, " of %s by %s", p.Date.Format("2006-01-02"), Printable(p.Author))
	}
	switch {
	case p.RemovedBy != "":
		fmt.Fprintf(b, ", went out with %.10s; the history still has it\n", p.RemovedBy)
	case p.AtTip != nil && *p.AtTip:
		b.WriteString(", is still there\n")
	default:
		b.WriteString(", is in the history\n")
	}
}

func confidenceWord(c float64) string {
	switch {
	case c >= 0.95:
		return "certain by its form"
	case c >= 0.7:
		return "likely"
	}
	return "possible"
}

// writeEnd says what the sweep comes to, and what was not searched.
func (r *Report) writeEnd(b *strings.Builder) {
	for _, n := range r.Notes {
		fmt.Fprintf(b, "note: %s\n", Printable(n))
	}
	for i, g := range r.Unsearched {
		if i == 20 {
			fmt.Fprintf(b, "not searched: %d more\n", len(r.Unsearched)-20)
			break
		}
		fmt.Fprintf(b, "not searched: %s: %s\n", Printable(g.What), Printable(g.Why))
	}
	what := map[string]string{"tree": "files", "history": "objects"}[r.Source]
	fmt.Fprintf(b, "%s in %d %s (%s) searched", count(len(r.Findings), "finding"), r.Files, what, size(r.Bytes))
	if len(r.Unsearched) > 0 {
		fmt.Fprintf(b, "; %s could not be searched", count(len(r.Unsearched), "thing"))
	}
	b.WriteString(".\n")
}

func count(n int, what string) string {
	switch n {
	case 0:
		return "no " + what + "s"
	case 1:
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func size(n int64) string {
	switch {
	case n >= 1<<30:
		return fmt.Sprintf("%.1f GiB", float64(n)/(1<<30))
	case n >= 1<<20:
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	case n >= 1<<10:
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	}
	return fmt.Sprintf("%d bytes", n)
}

// WriteJSON writes the report as one JSON object.
func (r *Report) WriteJSON(w io.Writer) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(r)
}

// levels are SARIF's words for our severities.
var levels = map[Severity]string{Critical: "error", High: "error", Medium: "warning", Low: "note"}

// WriteSARIF writes the report as SARIF 2.1.0 (OASIS). Paths are relative to the
// swept root; columns count characters.
func (r *Report) WriteSARIF(w io.Writer) error {
	type object = map[string]any
	results := []object{}
	used := map[string]Finding{}
	for _, f := range r.Findings {
		used[f.Rule] = f
		locations := []object{}
		for _, p := range f.Places {
			locations = append(locations, object{"physicalLocation": object{
				"artifactLocation": object{"uri": (&url.URL{Path: p.Path}).EscapedPath(), "uriBaseId": "SWEPT"},
				"region":           object{"startLine": p.Line, "startColumn": p.Column, "endLine": p.EndLine, "endColumn": p.EndColumn, "snippet": object{"text": p.Excerpt}},
			}})
		}
		result := object{"ruleId": f.Rule, "level": levels[f.Severity], "message": object{"text": f.Finds + ". " + f.Remedy},
			"locations": locations[:1], "partialFingerprints": object{"finding/v1": f.ID},
			"properties": object{"severity": f.Severity, "confidence": f.Confidence}}
		if len(locations) > 1 {
			for i, l := range locations[1:] {
				l["id"] = i + 1
			}
			result["relatedLocations"] = locations[1:]
		}
		if p := f.Places[0]; p.Commit != "" {
			result["properties"].(object)["commit"] = p.Commit
		}
		results = append(results, result)
	}
	rules := []object{}
	for name, f := range used {
		rules = append(rules, object{"id": name, "shortDescription": object{"text": f.Finds}, "fullDescription": object{"text": f.Why}, "help": object{"text": f.Remedy}})
	}
	sort.Slice(rules, func(i, j int) bool { return rules[i]["id"].(string) < rules[j]["id"].(string) })
	notifications := []object{}
	for _, g := range r.Unsearched {
		notifications = append(notifications, object{"level": "warning", "message": object{"text": "not searched: " + g.What + ": " + g.Why}})
	}
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(object{
		"$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
		"version": "2.1.0",
		"runs": []object{{
			"tool":               object{"driver": object{"name": "Adytum", "rules": rules}},
			"columnKind":         "unicodeCodePoints",
			"originalUriBaseIds": object{"SWEPT": object{"description": object{"text": "the root of what was swept"}}},
			"results":            results,
			"invocations":        []object{{"executionSuccessful": len(r.Unsearched) == 0, "toolExecutionNotifications": notifications}},
		}},
	})
}

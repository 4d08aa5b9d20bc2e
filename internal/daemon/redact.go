package daemon

import "adytum.example/internal/core/sweep"

// redactor takes values out of the free text that people type, before it is kept.
func redactor() func(string) string {
	return sweep.NewEngine(sweep.Catalogue()).Redact
}

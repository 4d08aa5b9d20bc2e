// Package console serves the web console, which is built into the program, with
// headers that allow it nothing but its own files.
package console

import (
	"embed"
	"io/fs"
	"net/http"
	"path"
	"strings"
)

//go:embed all:dist
var built embed.FS

// policy allows the service's own files and nothing inline, and no framing.
const policy = "default-src 'self'; base-uri 'none'; object-src 'none'; frame-ancestors 'none'; form-action 'self'"

// Handler serves the console: its files by their names, and its page for every
// other path, since the page finds its way by the address.
func Handler() http.Handler {
	dist, err := fs.Sub(built, "dist")
	if err != nil {
		panic("the console's folder is part of the program: " + err.Error())
	}
	files := http.FileServerFS(dist)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", policy)
		h.Set("Permissions-Policy", "camera=(), geolocation=(), microphone=()")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if info, err := fs.Stat(dist, name); name != "" && err == nil && !info.IsDir() {
			if strings.HasPrefix(name, "assets/") {
				h.Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			files.ServeHTTP(w, r)
			return
		}
		page, err := fs.ReadFile(dist, "index.html")
		if err != nil {
			http.Error(w, "The console was not built into this program; \"make build\" does that. The interface under /api/v1 and the client work without it.", http.StatusNotFound)
			return
		}
		h.Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write(page)
	})
}

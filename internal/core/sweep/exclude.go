package sweep

import (
	"bytes"
	"path"
	"regexp"
	"slices"
	"strings"
)

// What is no leak although it stands where one could.

// placeholders are words that say that a value is none. They count where they
// stand as words of their own.
var placeholders = []string{"example", "changeme", "change", "your", "yours", "placeholder", "dummy", "sample", "todo", "fixme", "redacted",
	"removed", "hidden", "withheld", "insert", "replace", "replaceme", "none", "null", "nil", "undefined", "empty", "foo", "bar", "foobar", "foobaz",
	"test", "testing", "tests", "fake", "mock", "demo", "invalid", "xxx", "xxxx", "xxxxx", "xxxxxxxx", "secret", "secrets", "password", "passwd", "passphrase",
	"token", "apikey", "key", "value", "string", "default", "notasecret", "expected", "actual", "unknown", "optional", "required", "my", "some", "here", "goes"}

var words = regexp.MustCompile(`[A-Za-z0-9]+`)

// placeholder tells whether a value says of itself that it is none. A word counts
// where it stands on its own, by separators or capitals; within a random run it
// is chance.
func placeholder(v []byte) bool {
	for _, run := range words.FindAll(v, -1) {
		run = bytes.TrimRight(run, "0123456789")
		if bytes.ContainsAny(run, "0123456789") {
			continue
		}
		for _, part := range camelParts(run) {
			// Short words turn up by chance between the capitals of a random run.
			if slices.Contains(placeholders, part) && (len(part) >= 4 || len(part) == len(run)) {
				return true
			}
		}
	}
	return false
}

// camelParts splits an identifier's word at its capitals, folded.
func camelParts(word []byte) []string {
	var parts []string
	start := 0
	for i := 1; i <= len(word); i++ {
		if i == len(word) || isUpper(word[i]) && !isUpper(word[i-1]) {
			parts = append(parts, strings.ToLower(string(word[start:i])))
			start = i
		}
	}
	return append(parts, strings.ToLower(string(word)))
}

var lookups = regexp.MustCompile(`(?i)\$\{|\$\(|\$\[|\{\{|\}\}|<%|%\(|#\{|\bprocess\.env|\benviron|\bgetenv|\bENV\[|\benv\.|import\.meta|\$env:|adytum:|<[A-Za-z][A-Za-z0-9 _.:-]*>|^\$[A-Za-z_]|^%[A-Za-z_]+%$|^@|^&[a-z]|%[sdvq]\b`)

// lookup tells whether a value is looked up at run time: a reference, an
// environment variable, a template.
func lookup(v []byte) bool { return lookups.Match(v) }

// isMask tells whether a value is made of filler: ****, ....., xxxxxx, 000000.
func isMask(v []byte) bool {
	distinct := map[byte]bool{}
	for _, c := range v {
		distinct[fold(c)] = true
	}
	return len(distinct) <= 3 || bytes.Contains(v, []byte("***")) || bytes.Contains(v, []byte("...")) || bytes.Contains(v, []byte("xxxx")) ||
		bytes.Contains(v, []byte("XXXX")) || bytes.ContainsRune(v, '…') || bytes.ContainsRune(v, '•')
}

var commonPasswords = []string{"root", "admin", "user", "guest", "pass", "postgres", "mysql", "letmein", "qwerty", "12345", "123456", "12345678", "abc123", "1234", "host", "localhost", "username", "hunter2", "pwd", "pw"}

// commonPassword tells whether a value is one that everybody knows: a default,
// not a leak.
func commonPassword(v []byte) bool {
	return slices.Contains(commonPasswords, strings.ToLower(string(v)))
}

var sampleWords = regexp.MustCompile(`(?i)example|sample|placeholder|dummy|redacted|xxxxx|00000000|12345678|abcdefgh|deadbeef`)

// sampleToken tells whether a token was written to be shown: issuers' own
// documentation puts such words into theirs.
func sampleToken(v []byte) bool { return len(v) < 400 && sampleWords.Match(v) || isRun(v) }

func isRun(v []byte) bool { return len(v) >= 8 && Strength(v) < float64(len(v)) }

// codeEndings are the endings of program files, in which an unquoted value is an
// expression.
var codeEndings = []string{".go", ".js", ".mjs", ".cjs", ".jsx", ".ts", ".mts", ".cts", ".tsx", ".vue", ".svelte", ".py", ".rb", ".php", ".java", ".kt", ".kts", ".scala", ".cs", ".c", ".h",
	".cc", ".cpp", ".hpp", ".m", ".mm", ".rs", ".swift", ".lua", ".pl", ".pm", ".ex", ".exs", ".erl", ".clj", ".dart", ".groovy", ".gradle", ".sql", ".s", ".asm", ".html", ".htm", ".css", ".scss", ".less", ".md", ".markdown",
	".rst", ".txt", ".adoc", ".tex", ".map", ".zig", ".hs", ".ml", ".r", ".jl", ".proto", ".graphql", ".y", ".csv", ".tmpl", ".tpl", ".ejs", ".erb", ".xml", ".svg"}

func isCode(file string) bool { return slices.Contains(codeEndings, strings.ToLower(path.Ext(file))) }

var testPath = regexp.MustCompile(`(?i)(?:^|/)(?:tests?|testdata|testing|__tests__|specs?|fixtures?|mocks?|__mocks__|examples?|samples?|testutils?)/|[_.-](?:test|spec|mock)\.[a-z]+$|(?:^|/)(?:test_[^/]*|conftest)\.py$|Tests?\.(?:java|kt|cs|php)$`)

// isTest tells whether a file belongs to a program's tests or examples.
func isTest(file string) bool { return testPath.MatchString(file) }

var lockNames = []string{"package-lock.json", "npm-shrinkwrap.json", "yarn.lock", "pnpm-lock.yaml", "go.sum", "Cargo.lock", "poetry.lock", "Gemfile.lock", "composer.lock", "Pipfile.lock", "uv.lock", "bun.lock", "flake.lock"}

// isLock tells whether a file is a lock file, which is full of hashes.
func isLock(file string) bool { return slices.Contains(lockNames, path.Base(file)) }

var (
	uuid      = regexp.MustCompile(`^\{?[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}\}?$`)
	hexOnly   = regexp.MustCompile(`^(?:0x)?[0-9a-fA-F]+$`)
	dotted    = regexp.MustCompile(`^[A-Za-z_$][\w$]*(?:\??\.[\w$]+|::\w+|->\w+)+$`)
	urlLike   = regexp.MustCompile(`^(?:[a-z][a-z0-9+.-]*:)?//|^[a-z]+:[a-z/]|^(?:\.{0,2}|~)/[\w./-]+$`)
	dateLike  = regexp.MustCompile(`^\d{4}-\d\d-\d\d`)
	hashStart = regexp.MustCompile(`^(?:sha(?:1|256|384|512)|md5|h1|blake\w*)[-:=]|^\$(?:2[aby]|argon2\w*|[156]|scrypt|pbkdf2[\w-]*)\$`)
	identWord = regexp.MustCompile(`^[A-Za-z_$][A-Za-z_$-]*[0-9]{0,3}$`)
)

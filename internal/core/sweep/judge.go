package sweep

// IsSecret tells whether a variable of this name and value is a secret: by the
// form of its value, or by its name where the value is none that says otherwise.
// It is what adopting and importing go by.
func (e *Engine) IsSecret(name, value string) bool {
	if value == "" || lookup([]byte(value)) {
		return false
	}
	if len(e.Find([]byte(name+`="`+value+`"`), Hint{})) > 0 || len(e.Find([]byte(value), Hint{})) > 0 {
		return true
	}
	v := []byte(value)
	named := loudNames.MatchString(name) && !quietNames.MatchString(name)
	return named && len(v) >= 4 && !isMask(v) && !urlLike.Match(v) && !(placeholder(v) && len(v) < 16) && value != "true" && value != "false"
}

// Redact replaces every value that the rules find in a text by "[withheld]". It
// is for free text that people type, before it is kept.
func (e *Engine) Redact(text string) string {
	matches := e.Find([]byte(text), Hint{})
	for i := len(matches) - 1; i >= 0; i-- {
		text = text[:matches[i].Start] + "[withheld]" + text[matches[i].End:]
	}
	return text
}

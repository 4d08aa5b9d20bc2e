package password_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/password"
	"adytum.example/internal/core/secret"
)

func check(p string, about ...string) string {
	return strings.Join(password.Check(secret.FromString(p), about...), "; ")
}

func TestGoodPasswordsAreTaken(t *testing.T) {
	for _, p := range []string{
		"a lantern above the harbour", "gravel teacup eleven moth", "xw7-fprt-m2kq-9dhz", "Zürich Kühlschrank Nebel", "всё будет хорошо завтра",
		"the password is a lantern by the sea", strings.Repeat("lantern harbour teacup ", 40), "日本語のとても長い合言葉です、ね",
	} {
		assert.Empty(t, check(p, "priya@fernhollow.example", "Priya Vantongeren"), p)
	}
}

func TestWhatManyPeopleChooseIsRefused(t *testing.T) {
	for _, p := range []string{
		"passwordpassword", "Passw0rd!Passw0rd!", "123456789012345", "qwertyuiopasdfghjkl", "qwerty123456789", "aaaaaaaaaaaaaaaaaaaa", "abcabcabcabcabcabc",
		"iloveyouiloveyou", "letmeinletmein1234", "welcome2024welcome", "administrator123", "abcdefghijklmnop", "zyxwvutsrqponmlk", "1qaz2wsx3edc4rfv",
		"correcthorsebatterystaple", "January2026January", "priya-vantongeren", "fernhollow.example1", "PriyaPriyaPriya1!",
	} {
		assert.Contains(t, check(p, "priya@fernhollow.example", "Priya Vantongeren"), "many people choose", p)
	}
}

func TestOnlyLengthIsCountedNotKindsOfCharacters(t *testing.T) {
	assert.Contains(t, check("Tr0ub4dor&3x!"), "shorter than 15")
	assert.Empty(t, check("gravelteacupmoth"), "no digit, no capital, no sign")
	assert.Contains(t, check("ééééééééééé"), "shorter than 15", "characters, not bytes")
	assert.Contains(t, check(strings.Repeat("lantern harbour ", 70)), "longer than 1000")
	assert.Contains(t, check("\xff\xfe not text at all"), "not UTF-8")
}

func TestWhatIsSaidHoldsNothingOfThePassword(t *testing.T) {
	for _, p := range []string{"hunter2", "qwertyqwertyqwerty", "Vantongeren12345"} {
		said := check(p, "Priya Vantongeren")
		require.NotEmpty(t, said)
		assert.NotContains(t, strings.ToLower(said), strings.ToLower(p[:6]))
	}
}

func FuzzCheck(f *testing.F) {
	f.Add("a lantern above the harbour", "priya")
	f.Add("\xff", "")
	f.Fuzz(func(t *testing.T, p, about string) {
		if len(p) > 2000 || len(about) > 200 {
			return
		}
		first := check(p, about)
		require.Equal(t, first, check(p, about))
	})
}

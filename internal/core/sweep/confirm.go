package sweep

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"strings"

	"adytum.example/internal/core/access"
	"adytum.example/internal/core/sample"
)

// confirmations are the checks that a rule can name. Each is a pure function of
// the matched value.
var confirmations = map[string]func([]byte) bool{
	"":         func([]byte) bool { return true },
	"strength": func(v []byte) bool { return Strength(v) >= 40 },
	// Several issuers end their tokens with a CRC-32 in base 62 of what stands
	// behind the prefix.
	"crc62":       crc62,
	"jws":         isJWS,
	"bech32":      bech32,
	"mixed":       mixed,
	"password":    isPassword,
	"credentials": isCredentials,
	"pem":         isPEM,
	"own-token":   func(v []byte) bool { return access.ValidToken(string(v)) },
	"json-key":    func(v []byte) bool { return bytes.Contains(v, []byte("PRIVATE KEY")) },
}

func crc62(v []byte) bool {
	body := string(v[bytes.LastIndexByte(v, '_')+1:])
	return len(body) > 6 && sample.CRC62(body[:len(body)-6]) == body[len(body)-6:]
}

// isJWS checks the structure of a JSON Web Signature in its compact form, RFC
// 7515: a header that is JSON and names an algorithm, and a payload.
func isJWS(v []byte) bool {
	parts := strings.Split(string(v), ".")
	if len(parts) != 3 {
		return false
	}
	raw, err := base64.RawURLEncoding.DecodeString(parts[0])
	if err != nil {
		return false
	}
	var header struct{ Alg string }
	if json.Unmarshal(raw, &header) != nil || header.Alg == "" || strings.EqualFold(header.Alg, "none") {
		return false
	}
	payload, err := base64.RawURLEncoding.DecodeString(parts[1])
	return err == nil && json.Valid(payload) && len(parts[2]) >= 20
}

// bech32 checks the checksum of BIP 173, which age keys carry.
func bech32(v []byte) bool {
	text := strings.ToLower(string(v))
	split := strings.LastIndexByte(text, '1')
	if split < 1 || len(text)-split < 7 {
		return false
	}
	const alphabet = "qpzry9x8gf2tvdw0s3jn54khce6mua7l"
	sum := uint32(1)
	step := func(value uint32) {
		top := sum >> 25
		sum = (sum&0x1ffffff)<<5 ^ value
		for i, generator := range []uint32{0x3b6a57b2, 0x26508e6d, 0x1ea119fa, 0x3d4233dd, 0x2a1462b3} {
			if top>>i&1 == 1 {
				sum ^= generator
			}
		}
	}
	for i := range split {
		step(uint32(text[i]) >> 5)
	}
	step(0)
	for i := range split {
		step(uint32(text[i]) & 31)
	}
	for i := split + 1; i < len(text); i++ {
		n := strings.IndexByte(alphabet, text[i])
		if n < 0 {
			return false
		}
		step(uint32(n))
	}
	return sum == 1
}

// mixed asks for what a random token of some length has: letters and digits, or
// letters that are no words.
func mixed(v []byte) bool {
	hasLetter, hasDigit := false, false
	for _, c := range v {
		hasLetter = hasLetter || classOf(c) == letters
		hasDigit = hasDigit || classOf(c) == digits
	}
	bits := Strength(v)
	return hasLetter && hasDigit && bits >= 40 || bits >= 80 && bits >= 4*float64(len(v))
}

// isPassword is for places where a password stands by its position: anything
// but a placeholder or a look-up.
func isPassword(v []byte) bool {
	return len(v) >= 4 && !placeholder(v) && !lookup(v) && !isMask(v) && !commonPassword(v)
}

// isCredentials is for an Authorization header: a random token, or RFC 7617's
// name and password in base64 where the password is none that everybody knows.
func isCredentials(v []byte) bool {
	decoded, err := base64.StdEncoding.DecodeString(string(v))
	if _, password, found := bytes.Cut(decoded, []byte(":")); err == nil && found && printable(decoded) {
		return isPassword(password) && strongEnough(password, true, true)
	}
	return !placeholder(v) && mixed(v)
}

// isPEM asks for a body that is base64 and not a few sample characters.
func isPEM(v []byte) bool {
	body := bytes.ReplaceAll(v, []byte(`\n`), []byte("\n"))
	lines := bytes.Split(body, []byte("\n"))
	n := 0
	for _, line := range lines {
		line = bytes.Trim(line, " \t\r\"'`+,\\")
		if bytes.HasPrefix(line, []byte("-----")) || bytes.Contains(line, []byte(":")) {
			continue
		}
		for _, c := range line {
			if classOf(c) == letters || classOf(c) == digits || c == '+' || c == '/' || c == '=' {
				n++
			}
		}
	}
	return n >= 40
}

package sweep

import "math"

// surprise holds, for each pair of lower-case letters, how improbable the second
// is behind the first in English words and identifiers: quarter bits, from '0'.
const surprise = "" +
	"LC??RLDWDXI<B=XBX<?;HJNJJU=EEK=KLX=DS:KN?JRA@H=PPQBS<NEL=LK=DX?AGM9JRCE=DLTULX@IF?7HKO;NUCHJ@HMA@HCJIIHV" +
	"AL?=FEFPKXRBC=MEJ:<@NGIBMW@OGF?<KP9XU?HH=GX@BBAWPSGXCLBK8JGB>XUCH?<GU??EDNOXRQ9OKG8LOP<XQHEK=KWBEADROWKR" +
	"EH@BDDCXWVS@A7?FXD@=XEXJXE<LHD:GNQCOFKFH<GTL:I<PJQQR@IGG6GBK=VOFGCGFQI=GEOJVKU>NJB9JMQ:XN=PM;KVLCDDLOWAV" +
	"9DLH9OSS>XLICL=<VOBHBQTXNX?M@>=E<PAWGHKGAKSM=;GGPXOVEF@AMEGUHXHA@:DAX;BB@BDOVX;OFI;LLGBXI?JP=BU;A?CQPTLX" +
	"MIAFMLLLIRTFBKRKGDBJ3QLOPI=NEF8IGR=XHGEG=KWB?@EINVEXCLBL:LKA=XGFILCBOJ@9AQJSCU=MEJ9INA;XTFIM@FW=@DEPMNCT" +
	"DACHADGWAXX>@9J@V>>=WTVKXO:IFG6FNL>XSIFMD@KKDKOCHKXQ:JEG=GLB<XRFGA>GR<@HLOGOUQAE@F>DOK?WWHHKE:SHE9LEKAHU" +
	"GGCICINMBXSE<>G8UG;>LMJMHH?KGJ3QON?RXGPOBNTHJNNLLIH?"

// wordLike is the mean surprise below which a run of letters passes for words:
// English is at 3.3 to 4.3 bits a letter, random letters at 6 to 7.
const wordLike = 5.0

// Strength estimates how many bits a guesser would need for a value, were they
// to try words, sequences and repetitions first. It is an estimate: meant to tell
// a random key from a name, not to grade passwords.
func Strength(value []byte) float64 {
	if period := repetition(value); period < len(value) {
		return Strength(value[:period]) + math.Log2(float64(len(value)/period))
	}
	bits := 0.0
	for i := 0; i < len(value); {
		class := classOf(value[i])
		end := i + 1
		for end < len(value) && classOf(value[end]) == class {
			end++
		}
		switch class {
		case letters:
			// Letters between digits are no word, unless there are many.
			embedded := i > 0 && classOf(value[i-1]) == digits || end < len(value) && classOf(value[end]) == digits
			bits += lettersStrength(value[i:end], embedded && end-i < 8)
		case digits:
			bits += digitsStrength(value[i:end])
		case separators:
			bits += float64(end-i) * 0.5
		default:
			bits += math.Min(float64(end-i), 4) * 4
		}
		i = end
	}
	return bits
}

type class int

const (
	letters class = iota
	digits
	separators
	others
)

func classOf(c byte) class {
	switch {
	case c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z':
		return letters
	case c >= '0' && c <= '9':
		return digits
	case c == '_' || c == '-' || c == '.' || c == ' ' || c == '/' || c == ':':
		return separators
	}
	return others
}

func fold(c byte) byte {
	if c >= 'A' && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

// lettersStrength is two bits a letter for what reads like words, and the full
// alphabet for what does not; changes of case within a word add to it.
func lettersStrength(run []byte, embedded bool) float64 {
	changes := 0
	for i := 1; i < len(run); i++ {
		if isUpper(run[i-1]) != isUpper(run[i]) {
			changes++
		}
	}
	// A capital at the start of each word, as in identifiers, is no mix.
	mixed := changes > 1 && changes*3 > len(run)
	switch {
	case len(run) >= 4 && !mixed && !embedded && meanSurprise(run) < wordLike:
		return 2 * float64(len(run))
	case mixed:
		return 5.2 * float64(len(run))
	}
	return 4.2 * float64(len(run))
}

func isUpper(c byte) bool { return c >= 'A' && c <= 'Z' }

// meanSurprise is the mean over a run's pairs of letters. Keyboard rows and the
// alphabet are as easy to guess as words.
func meanSurprise(run []byte) float64 {
	sum, easy := 0.0, 0
	for i := 1; i < len(run); i++ {
		a, b := fold(run[i-1]), fold(run[i])
		sum += float64(surprise[int(a-'a')*26+int(b-'a')]-'0') / 4
		if b == a+1 || b == a || neighbours(a, b) {
			easy++
		}
	}
	if easy*4 >= (len(run)-1)*3 {
		return 0
	}
	return sum / float64(len(run)-1)
}

const keyboard = "qwertyuiop asdfghjkl zxcvbnm"

func neighbours(a, b byte) bool {
	for i := 1; i < len(keyboard); i++ {
		if keyboard[i-1] == a && keyboard[i] == b {
			return true
		}
	}
	return false
}

func digitsStrength(run []byte) float64 {
	bits := math.Log2(10)
	for i := 1; i < len(run); i++ {
		switch d := int(run[i]) - int(run[i-1]); d {
		case 0, 1, -1:
			bits += 1
		default:
			bits += math.Log2(10)
		}
	}
	return bits
}

// repetition is the length of the shortest part that the value consists of.
func repetition(value []byte) int {
	for period := 1; period <= len(value)/2; period++ {
		if len(value)%period != 0 {
			continue
		}
		same := true
		for i := period; i < len(value) && same; i++ {
			same = value[i] == value[i-period]
		}
		if same {
			return period
		}
	}
	return len(value)
}

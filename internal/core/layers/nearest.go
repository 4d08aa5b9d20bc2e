package layers

import "strings"

// Nearest is the known name that a misspelt one probably meant, or "" where none
// is near: at most a third of the letters differ, upper and lower case not counted.
func Nearest(misspelt string, known []string) string {
	best, bestDistance := "", len(misspelt)/3+1
	for _, candidate := range known {
		if d := distance(strings.ToUpper(misspelt), strings.ToUpper(candidate), bestDistance); d < bestDistance {
			best, bestDistance = candidate, d
		}
	}
	return best
}

// distance is the edit distance with transpositions of neighbours (Damerau, in
// its restricted form), given up at limit.
func distance(a, b string, limit int) int {
	if len(a)-len(b) >= limit || len(b)-len(a) >= limit {
		return limit
	}
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range row {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}

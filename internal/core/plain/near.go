package plain

import "slices"

// Nearest is the word that somebody who mistyped meant; "" where none is near.
func Nearest(typed string, words []string) string {
	best, least := "", 3
	if len(typed) < 4 {
		least = 2
	}
	for _, w := range slices.Sorted(slices.Values(words)) {
		if len(w) < 2 {
			continue
		}
		if d := Apart(typed, w); d < least {
			best, least = w, d
		}
	}
	return best
}

// Apart is in how many steps one word becomes another: letters put in, left out, put in the place of others, or two of them swapped.
func Apart(a, b string) int {
	x, y := []rune(a), []rune(b)
	rows := make([][]int, len(x)+1)
	for i := range rows {
		rows[i] = make([]int, len(y)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(x); i++ {
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(x)][len(y)]
}

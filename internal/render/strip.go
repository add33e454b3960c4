package render

// Strip draws shares from 0 to 1 as a line of bars, one cell each; a dot is none. The
// highest bar leaves room above it, so that the strips of two rows stay apart.
func Strip(shares []float64) string {
	bars := []rune("▁▂▃▄▅▆")
	out := make([]rune, len(shares))
	for i, s := range shares {
		switch {
		case s <= 0:
			out[i] = '·'
		default:
			out[i] = bars[min(len(bars)-1, int(s*float64(len(bars))))]
		}
	}
	return string(out)
}

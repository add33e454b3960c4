package main

import "testing"

func TestDebug(t *testing.T) {
	j, err := newJudged(live(worldOf(0), 8), days[1])
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range ways("ours, normal") {
		j.debug(w)
	}
}

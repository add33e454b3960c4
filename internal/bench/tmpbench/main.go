package main

import (
	"fmt"
	"os"
	"runtime/pprof"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/snapshot"
)

func main() {
	x, err := snapshot.Open("/tmp/b/s1", "bench")
	if err != nil {
		panic(err)
	}
	var ids []int
	for n, id := range x.Everybody() {
		if id.ID.Kind != model.Group && n%20 == 0 {
			ids = append(ids, n)
		}
	}
	f, _ := os.Create(os.Args[1])
	pprof.StartCPUProfile(f)
	s := gauge.NewScale(x.Index, gauge.DefaultWeights)
	for range 2 {
		t := time.Now()
		w := x.NewWalk(index.Possible)
		for _, n := range ids {
			w.Pairs(x.ID(n))
		}
		fmt.Println(len(ids), "pairs", time.Since(t)/time.Duration(len(ids)))
		t = time.Now()
		for _, n := range ids {
			w.Totals(x.ID(n))
		}
		fmt.Println("totals", time.Since(t)/time.Duration(len(ids)))
	}
	t := time.Now()
	for _, n := range ids {
		s.Held(x.ID(n))
	}
	fmt.Println("held", time.Since(t)/time.Duration(len(ids)))
	pprof.StopCPUProfile()
	f.Close()
}

package main

import (
	"runtime"
	"runtime/debug"
	"runtime/metrics"
)

// How much more than what is in use the program lets itself have before it
// collects what is not: about room bytes, between least and most percent of it. A
// small organization is not slowed down to save memory that every machine has,
// and a large one fits into little more than it needs.
const (
	room  = 384 << 20
	least = 50
	most  = 400
)

// pace keeps to that, after each collection anew.
func pace() {
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(live)
	percent := most
	if bytes := live[0].Value.Uint64(); bytes > 0 {
		percent = int(min(most, max(least, room*100/bytes)))
	}
	debug.SetGCPercent(percent)
	// What nothing refers to is found by the next collection.
	runtime.AddCleanup(new([16]byte), func(struct{}) { pace() }, struct{}{})
}

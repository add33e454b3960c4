package cli

import (
	"context"
	"testing"
	"time"
)

// TestLeave: what is interrupted and goes on thinking is left, as soon as it may be; what ends by itself, is not
// interrupted, or must not be left, is not.
func TestLeave(t *testing.T) {
	for _, tt := range []struct {
		name              string
		interrupt, thinks bool
		end               bool // before it is looked at
		left              bool
	}{
		{"goes on thinking", true, true, false, true},
		{"does what must end", true, false, false, false},
		{"ends by itself", true, true, true, false},
		{"nobody interrupts", false, true, false, false},
	} {
		t.Run(tt.name, func(t *testing.T) {
			ctx, interrupt := context.WithCancel(t.Context())
			defer interrupt()
			asked, away := make(chan bool, 100), make(chan bool, 1)
			ended := leave(ctx, time.Millisecond, func() bool {
				select {
				case asked <- true:
				default:
				}
				return tt.thinks
			}, func() { away <- true })
			if tt.end {
				ended()
			}
			if tt.interrupt {
				interrupt()
			}
			switch {
			case tt.left:
				<-away
			case tt.interrupt && !tt.end: // it is asked again and again, and stays
				for range 3 {
					<-asked
				}
			}
			if !tt.end {
				ended()
			}
			if !tt.left && len(away) > 0 {
				t.Error("it was left")
			}
		})
	}
}

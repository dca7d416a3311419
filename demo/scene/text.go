package scene

import (
	"fmt"
	"strings"
)

var lines = map[string][2][]string{
	"keeper": {
		{"KEEPER: The third lamp went out the winter the ferry stopped.", "KEEPER: You will want oil, a dry wick, and somebody who waits for you.", "KEEPER: I would row myself, but the boat knows the way better without me, and I have said so to everyone who came, which was nobody.", "KEEPER: Mind the kelp."},
		{"KEEPER: The third lamp went out when the ferry stopped.", "KEEPER: Oil, a dry wick, somebody who waits. That is all there is to it.", "KEEPER: Mind the kelp."},
	},
	"ferryman": {
		{"FERRYMAN: Tide's against you. Tide's always against you.", "FERRYMAN: Leave the brass switch up, or the horn will not stop."},
		{"FERRYMAN: Tide's against you.", "FERRYMAN: Leave the brass switch up."},
	},
}

// Dialogue is a text of the game.
func Dialogue(who string, pass int) []byte {
	return []byte(strings.Join(lines[who][pass], "\n\n") + "\n")
}

// Tuning is a table of the game.
func Tuning(name string, pass int) []byte {
	var b strings.Builder
	switch name {
	case "boat":
		fmt.Fprintf(&b, "key,value,unit\ndrag,%.2f,1/s\nturn,%d,deg/s\nstroke,1.8,m/s\n", 0.42+0.16*float64(pass), 38-9*pass)
	case "light":
		fmt.Fprintf(&b, "key,value,unit\nrange,%d,m\nfalloff,2.0,\noil,%.1f,min\n", 140-20*pass, 6.5+1.5*float64(pass))
	default:
		b.WriteString("name,x,y,z,turn\n")
		for i := range 14 + 4*pass {
			fmt.Fprintf(&b, "post-%02d,%.1f,%.1f,%.1f,%d\n", i+1, float64(i*37%80)-40, -0.5, float64(i*53%80)-40, i*49%360)
		}
	}
	return []byte(b.String())
}

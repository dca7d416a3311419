package scene

import (
	"fmt"
	"strings"
)

var lines = map[string][2][]string{
	"keeper": {
		{"KEEPER: The third lamp went out the winter the ferry stopped.",
			"KEEPER: You will want oil, a dry wick, and somebody who waits for you.",
			"KEEPER: I would row myself, but the boat knows the way better without me, and I have said so to everyone who came, which was nobody.",
			"KEEPER: Mind the kelp."},
		{"KEEPER: The third lamp went out when the ferry stopped.", "KEEPER: Oil, a dry wick, somebody who waits. That is all there is to it.",
			"KEEPER: Mind the kelp."},
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
			if pass > 0 && (i == 4 || i == 11) {
				continue
			}
			x, z := float64(i*37%80)-40, float64(i*53%80)-40
			if i%5 == 2 {
				x, z = x+7*float64(pass), z-4*float64(pass)
			}
			fmt.Fprintf(&b, "post-%02d,%.1f,%.1f,%.1f,%d\n", i+1, x, -0.5, z, i*49%360)
		}
	}
	return []byte(b.String())
}

// Things are what stands and swims in a level, as structured text: ids, what they are, where they are, and what they are set to.
func Things(pass int) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "{\n  \"level\": \"harbour\",\n  \"tide\": %.1f,\n  \"things\": [\n", 0.8+0.4*float64(pass))
	var rows []string
	add := func(id, kind string, x, z float64, rest string) {
		rows = append(rows, fmt.Sprintf("    {\"id\": %q, \"kind\": %q, \"position\": {\"x\": %.1f, \"y\": 0, \"z\": %.1f}%s}", id, kind, x, z,
			rest))
	}
	for i := range 9 {
		x, z := -34+8.5*float64(i), 12+9*float64(i%3)
		if pass > 0 && i%4 == 1 {
			x, z = x+3, z-6
		}
		add(fmt.Sprintf("lamp-%d", i+1), "lamp", x, z, fmt.Sprintf(`, "oil": %.1f`, 1-0.1*float64(i%3*pass)))
	}
	for i := range 6 {
		if pass == 0 || i != 3 {
			add(fmt.Sprintf("gull-%d", i+1), "gull", -30+11*float64(i), -22+5*float64(i%2), "")
		}
	}
	add("ferry", "boat", -4+22*float64(pass), -4, `, "stops": ["quay", "kelp light"]`)
	if pass > 0 {
		add("bell-buoy", "buoy", 27, -16, `, "rings": true`)
		add("steps", "stairs", 34, 2, `, "count": 7`)
	}
	b.WriteString(strings.Join(rows, ",\n"))
	b.WriteString("\n  ]\n}\n")
	return []byte(b.String())
}

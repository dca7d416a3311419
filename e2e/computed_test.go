package e2e

import (
	"encoding/json"
	"os"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestWhatTheConsoleComputes runs what the console computes, built as one script of its own, in the browser, where its users' numbers,
// words and times come from.
func TestWhatTheConsoleComputes(t *testing.T) {
	t.Parallel()
	script, err := os.ReadFile("../web/computed/computed.js")
	if err != nil {
		t.Fatal("run make build first: ", err)
	}
	b := browse(t, "")
	b.do(chromedp.Navigate("about:blank"), b.evaluate(string(script)+"; window.computed = computed; "+
		"window.t = s => s.replaceAll(`|`, `\\n`); "+
		"window.u = s => s.replaceAll(`\\n`, `|`).replaceAll(`\"`, `'`);"))
	for expression, want := range map[string]string{
		`size(1023)`: `"1023 B"`, `size(1536)`: `"1.5 KiB"`, `size(250 * 1024)`: `"250 KiB"`, `size(5 * 2 ** 40)`: `"5.0 TiB"`,
		`plural(1, "asset")`: `"1 asset"`, `plural(12345, "asset")`: `"12,345 assets"`, `plural(2, "entry", "entries")`: `"2 entries"`,
		`grown(0)`: `"the same size"`, `grown(-2048)`: `"−2.0 KiB"`,

		// A time: minutes within the hour, the hour of today and yesterday, the day of the week, the date.
		`ago(new Date(2026, 10, 20, 12, 0, 0), +new Date(2026, 10, 20, 12, 0, 30))`: `"just now"`,
		`ago(new Date(2026, 10, 20, 12, 0, 0), +new Date(2026, 10, 20, 12, 5, 0))`:  `"5 minutes ago"`,
		`ago(new Date(2026, 10, 20, 9, 5, 0), +new Date(2026, 10, 20, 23, 0, 0))`:   `"today 09:05"`,
		`ago(new Date(2026, 10, 19, 23, 50, 0), +new Date(2026, 10, 20, 1, 0, 0))`:  `"yesterday 23:50"`,
		`ago(new Date(2026, 10, 17, 8, 0, 0), +new Date(2026, 10, 20, 7, 0, 0))`:    `"Tue 08:00"`,
		`ago(new Date(2026, 9, 3, 8, 0, 0), +new Date(2026, 10, 20, 7, 0, 0))`:      `"Oct 3, 2026"`,

		// The pages that are asked for: those that are looked at, and the first one.
		`pagesFor(0, 20)`: `[0]`, `pagesFor(95, 105)`: `[0,1]`, `pagesFor(19950, 19999)`: `[0,199]`, `pagesFor(-3, -1)`: `[0]`,

		// What an event touches, and what it does not.
		`[...touched({kind: "lock.taken"})]`:                                                                 `["locks"]`,
		`touched({kind: "lock.taken"}).has("folder")`:                                                        `false`,
		`touched({kind: "handoff.sent", subject: {paths: ["a.png"], count: 1}}).has("rules")`:                `false`,
		`touched({kind: "handoff.sent", subject: {paths: ["a", "tarn.toml"], count: 2}}).has("rules")`:       `true`,
		`touched({kind: "handoff.sent", subject: {paths: ["a"], count: 200}}).has("rules")`:                  `true`,
		`touched({kind: "something.new"}).has("folder")`:                                                     `true`,
		`["look", "lines", "compare"].filter(n => touched({kind: "something.new"}).has(n))`:                  `[]`,
		`lies(["levels/harbour/a.glb"], "levels")`:                                                           `true`,
		`lies(["levelsque/a.glb"], "levels")`:                                                                `false`,
		`lies(["LEVELS/a.glb"], "levels")`:                                                                   `true`,
		`lies(["a.glb"], "")`:                                                                                `true`,
		`withLock({assets: [{path: "a"}, {path: "b"}]}, "b", {holder: "rurik", path: "b"}).assets[1].holder`: `"rurik"`,
		`withLock({assets: [{path: "b", holder: "rurik", lock: {}}]}, "b", undefined).assets[0]`:             `{"path":"b"}`,
		`(p => withLock(p, "b", undefined) === p)({assets: [{path: "a"}]})`:                                  `true`,
		`withAssets({assets: [{path: "a"}, {path: "b"}]}, [{path: "b", newest: 2}]).assets`: "" +
			`[{"path":"a"},{"path":"b","newest":2}]`,
		`(p => withAssets(p, [{path: "b"}]) === p)({assets: [{path: "a"}]})`:               `true`,
		`sums({folders: [{name: "a"}, {name: "Deep"}]}, ["levels/deep/x.glb"], "levels")`:  `true`,
		`sums({folders: [{name: "dee"}]}, ["levels/deep/x.glb", "other/dee/y"], "levels")`: `false`,
		`sums({folders: [{name: "levels"}]}, ["levels/x.glb"], "")`:                        `true`,
		`sums(undefined, ["levels/x.glb"], "")`:                                            `false`,

		// Rules are changed one by one, and what is not touched stays as it was written; | ends a line here.
		`u(setRule(t("# A|[[rule]]|# why|match = 'a'||[[set]]|match = 'x'|"), 0, {match: ["b", "c"], kind: "asset", lock: ""}))`: "" +
			`"# A|[[rule]]|# why|match = ['b', 'c']|kind = 'asset'||[[set]]|match = 'x'|"`,
		`u(addRule(t("# head||[[rule]]|match = 'a'||[[set]]|match = 'x'|"), {match: ["b"], kind: "", lock: "free"}))`: "" +
			`"# head||[[rule]]|match = 'a'||[[rule]]|match = 'b'|lock = 'free'||[[set]]|match = 'x'|"`,
		`u(addRule("", {match: ["b"], kind: "asset", lock: ""}))`:                         `"[[rule]]|match = 'b'|kind = 'asset'|"`,
		`u(removeRule(t("x = 1||# old|[[rule]]|match = 'a'||[[rule]]|match = 'b'|"), 0))`: `"x = 1||[[rule]]|match = 'b'|"`,
		`u(moveRule(t("[[rule]]|match = 'a'||# B|[[rule]]|match = 'b'|"), 1, -1))`:        `"# B|[[rule]]|match = 'b'||[[rule]]|match = 'a'|"`,
		`u(moveRule(t("[[rule]]|match = 'a'|"), 0, 1))`:                                   `"[[rule]]|match = 'a'|"`,
		`u(setKey(t("# head|presets = [|  'game',|]||[[rule]]|match = 'a'|"), "presets", ["sound"]))`: "" +
			`"# head|presets = ['sound']||[[rule]]|match = 'a'|"`,
		`u(setKey(t("# head||[[rule]]|match = 'a'|"), "read-only", true))`: `"# head||read-only = true||[[rule]]|match = 'a'|"`,
		`u(setKey(t("read-only = true|x = 1|"), "read-only", undefined))`:  `"x = 1|"`,

		// An address may say anything.
		`listingOf(new URLSearchParams("kind=sound&order=size&down=true&view=x"))`:      `{"kind":"sound","order":"size","down":"true"}`,
		`listingOf(new URLSearchParams("kind=painting&order=smell&least=-1&most=1e9"))`: `{}`,

		`kindOf("Levels/A.GLB")`: `"model"`, `kindOf("folder.png/readme")`: `"other"`, `kindOf(".png")`: `"other"`,
		`momentSpot(12.5)`: `"0:12.5"`, `momentSpot(3661)`: `"1:01:01"`, `spotMoment("1:01:01")`: `3661`, `placeSpot(30, 45.678)`: `"30%,45.68%"`,
		`spotPoint("1,2")`: `undefined`, `spotNamed("part R4", "part")`: `"R4"`,

		// What wants one's hand at the desk, and what one's folder has.
		`Object.entries(groupsOf({workspace: "w", assets: [{path: "a", state: "clash"}, {path: "b", state: "new"}, {path: "c", state: "edited"},
			{path: "d", state: "same", moved_from: "e"}, {path: "f", state: "behind"}, {path: "g", state: "same", lock: {workspace_id: "w",
			asks: [{person: "p"}]}}, {path: "h", state: "same", waiting: [{workspace_id: "w", offered_until: "x"}]},
			{path: "i", state: "same", lock: {workspace_id: "o"}, waiting: [{workspace_id: "w"}]},
			{path: "j", state: "edited", lock: {workspace_id: "w"}, heads_up: [{workspace_id: "w"}, {workspace_id: "o"}]}]})
			).map(([k, v]) => k + " " + v.map(a => a.path).join("")).join(", ")`: `"clashes a, turns h, asked g, changed cdj, fresh b, behind f, ` +
			`held g, waiting i, warned j"`,
		`changedIn({assets: [{path: "a", size: 1}, {path: "c"}], same: 1}, {away: ["c"], same: 2,
			assets: [{path: "b"}, {path: "a", size: 2}]})`: `{"same":2,"assets":[{"path":"a","size":2},{"path":"b"}]}`,
		`[[], ["a"], ["-a"], ["a", "-a/b"], ["-a", "a/b"]].map(s => ["a", "a/b", "ab"].map(f =>
			hasHere(s, f) ? "x" : "-").join("")).join(" ")`: `"xxx xx- --x x-- -xx"`,

		// A page names no commands.
		`remedy({reason: "held", remedy: "tarn lock --wait puts you in line"})`: `"wait in line, or ask them to let go"`,
		`remedy({reason: "", remedy: "see tarn history"})`:                      `""`,
		`remedy({reason: "", remedy: "check the spelling"})`:                    `"check the spelling"`,

		`sentence("models/lamp.glb: rurik holds it")`: `"models/lamp.glb: rurik holds it."`,
		`sentence("wait in line")`:                    `"Wait in line."`,

		`plainly("It is your turn: a.png. tarn begin takes it, with its newest version")`: `"It is your turn: a.png."`,
		`plainly("h3 by keiko: Lamps. Less oil.")`:                                        `"h3 by keiko: Lamps. Less oil."`,

		// All of a model is seen: a tower takes as much more room as it is high, and in half the width one stands further away.
		`distanceFor([1, 1, 1], [0, 0, 1], Math.PI / 2, 1, 1)`:                                                     `1`,
		`distanceFor([1, 10, 1], [0, 0, 1], Math.PI / 2, 2, 1).toFixed(3)`:                                         `"5.500"`,
		`distanceFor([10, 1, 1], [0, 0, 1], Math.PI / 2, 2, 1).toFixed(3)`:                                         `"3.000"`,
		`distanceFor([10, 1, 1], [0, 0, 1], Math.PI / 2, 0.5, 1).toFixed(3)`:                                       `"10.500"`,
		`distanceFor([0, 0, 0], [0.5, 0.45, 0.8], 0.7, 1)`:                                                         `1`,
		`[0.3, 1, 4].every(a => distanceFor([1, 9, 1], [0.5, 0.45, 0.8], 0.7, a) >= 9 / 2 / Math.tan(0.35) * 0.8)`: `true`,
	} {
		got, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](
			`(() => { with (computed) { return JSON.stringify(`+expression+`) ?? "undefined" } })()`))
		if err != nil {
			t.Errorf("%s: %v", expression, err)
		} else if got != want && !same(got, want) {
			t.Errorf("%s is %s, want %s", expression, got, want)
		}
	}
}

// same compares two JSON texts, whatever order their keys are in.
func same(a, b string) bool {
	var x, y any
	if json.Unmarshal([]byte(a), &x) != nil || json.Unmarshal([]byte(b), &y) != nil {
		return false
	}
	again, err := json.Marshal(x)
	other, failed := json.Marshal(y)
	return err == nil && failed == nil && string(again) == string(other)
}

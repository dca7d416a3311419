package model

// RulesText is a text of rules, as tarn.toml has it.
type RulesText struct {
	Text string `json:"text"`
}

// RulesTried is what rules say that are not handed off yet, and what they would change: Looked is how many assets were looked at, and More
// that there are others. Trouble is what is wrong with them, where anything is; nothing else is said then.
type RulesTried struct {
	Trouble   *RulesTrouble `json:"trouble,omitempty"`
	Presets   []string      `json:"presets"`
	Otherwise string        `json:"otherwise"`
	ReadOnly  bool          `json:"read_only"`
	Rules     []RuleLine    `json:"rules"`
	Changes   []RulesChange `json:"changes"`
	Looked    int           `json:"looked"`
	More      bool          `json:"more,omitempty"`
}

// RulesTrouble is what is wrong with rules. Line and Column count from 1; Line is 0 where it is about the whole text.
type RulesTrouble struct {
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Message string `json:"message"`
}

// What rules may change about an asset.
const (
	RulesLeaveOut = "left-out"  // they would leave it out; it stays an asset until somebody hands its removal off
	RulesTakeIn   = "taken-in"  // they make an asset of it, which they did not
	RulesNeedLock = "lock"      // its lock is needed
	RulesOnEdit   = "on-edit"   // its lock is taken on the first edit
	RulesFree     = "lock-free" // its lock is not needed any more
)

// RulesChange is one thing that they would change, for how many assets, and the first of them.
type RulesChange struct {
	What  string   `json:"what"`
	Count int      `json:"count"`
	Paths []string `json:"paths"`
}

// RulesQuestion asks for rules for some paths: of these presets, or of those that fit where they are left out. Otherwise is what becomes of
// what no rule covers: "code" leaves it to the main history.
type RulesQuestion struct {
	Paths     []string  `json:"paths"`
	Presets   *[]string `json:"presets,omitempty"`
	Otherwise string    `json:"otherwise,omitempty"`
}

// RulesProposed is the answer: every preset, the text of the rules, and of how many of the paths they make an asset.
type RulesProposed struct {
	Presets []PresetOffer `json:"presets"`
	Text    string        `json:"text"`
	Assets  int           `json:"assets"`
}

// PresetOffer is a preset, whether it fits the paths, and whether the text has it.
type PresetOffer struct {
	Name  string `json:"name"`
	About string `json:"about"`
	Fits  bool   `json:"fits"`
	Taken bool   `json:"taken"`
}

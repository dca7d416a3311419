package model

import "time"

// UsageDay is what a project took on a day, in bytes, as of its last hour that was counted: Stored at the service, Present as the newest
// files that people have, Past as all other versions. Brought and Fetched travelled on the day; ByteHours are the stored bytes of each
// hour, added up.
type UsageDay struct {
	Day       string  `json:"day"`
	Stored    int64   `json:"stored"`
	Present   int64   `json:"present"`
	Past      int64   `json:"past"`
	Assets    int     `json:"assets"`
	Brought   int64   `json:"brought"`
	Fetched   int64   `json:"fetched"`
	ByteHours float64 `json:"byte_hours"`
}

// UsagePart is what a part of a project takes as files, in bytes: of a branch, a folder, a kind or a person, which Part says.
type UsagePart struct {
	Part    string `json:"part"`
	Name    string `json:"name"`
	Present int64  `json:"present"`
	Past    int64  `json:"past"`
}

// Forecast is when a limit will be reached, from how the project grew in the last weeks: bytes a day in the middle, and slowly and fast. Of
// says which limit: that of the project, of the service, or the disk's. Full, Earliest and Latest are left out where they can't be
// foreseen, or are farther than ten years. Says says it in a sentence.
type Forecast struct {
	Of       string     `json:"of"`
	Limit    int64      `json:"limit"`
	PerDay   float64    `json:"per_day"`
	Slow     float64    `json:"slow"`
	Fast     float64    `json:"fast"`
	Full     *time.Time `json:"full,omitempty"`
	Earliest *time.Time `json:"earliest,omitempty"`
	Latest   *time.Time `json:"latest,omitempty"`
	Says     string     `json:"says"`
}

// Cost is what a project cost over the days that were asked about, and what it is expected to cost in the next 30, at a price for a GiB and
// a month (of 730 hours), and for a person and a month.
type Cost struct {
	Currency  string  `json:"currency"`
	PerGiB    float64 `json:"per_gib_month"`
	PerPerson float64 `json:"per_person_month,omitempty"`
	Past      float64 `json:"past"`
	Expected  float64 `json:"expected"`
}

// Usage is what a project takes, day by day, the earliest first, and what it is of.
type Usage struct {
	Days      []UsageDay  `json:"days"`
	Parts     []UsagePart `json:"parts"`
	Stored    int64       `json:"stored"`
	Limit     int64       `json:"limit,omitempty"`
	Forecasts []Forecast  `json:"forecasts"`
	Cost      *Cost       `json:"cost,omitempty"`
}

package lock

// How a hold, a wait or an ask ends. The words are kept in the record.
const (
	EndGivenBack  = "given-back"
	EndSent       = "sent"
	EndGiven      = "given" // to the next in line
	EndOverridden = "overridden"
	EndBrought    = "brought" // to another workspace of the holder's
	EndRemoved    = "removed" // who had it left the project
	EndLeft       = "left"    // the line
	EndGot        = "got"     // who waited has the lock
	EndNotYet     = "not-yet" // the answer to an ask
	// Held stands for no ending yet, where the record is asked.
	Held = "held"
)

// Ending is what a hold in the record may say of its end, and how people are told.
type Ending struct{ Word, Said string }

// Endings are those of holds, in the order in which they are offered.
var Endings = []Ending{
	{Held, "held still"},
	{EndSent, "sent"},
	{EndGivenBack, "given back"},
	{EndGiven, "given to the next"},
	{EndOverridden, "taken away"},
	{EndBrought, "brought to another workspace"},
	{EndRemoved, "left the project"},
}

// EndingWords are the words of Endings.
func EndingWords() (words []string) {
	for _, e := range Endings {
		words = append(words, e.Word)
	}
	return words
}

// SaidOf is how people are told of an ending; "" is none yet.
func SaidOf(word string) string {
	if word == "" {
		word = Held
	}
	for _, e := range Endings {
		if e.Word == word {
			return e.Said
		}
	}
	return word
}

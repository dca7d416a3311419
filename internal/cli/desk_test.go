package cli

import "testing"

func TestWhatIsAskedAndWhatIsAnswered(t *testing.T) {
	for message, want := range map[string][2]bool{
		`{"jsonrpc": "2.0", "id": 1, "method": "send", "params": {"note": "n"}}`:             {true, true},
		`{"jsonrpc": "2.0", "method": "rpc.cancel", "params": {"id": 1}}`:                    {false, true},
		`{"jsonrpc": "2.0", "method": "changed", "params": {"sending": [{"id": "x"}]}}`:      {false, true},
		`{"jsonrpc": "2.0", "id": 1, "result": {"note": "\"method\": 1", "job": {"id": 2}}}`: {true, false},
		`[{"id": 1, "method": "about"}, {"method": "about"}]`:                                {true, true},
		`[{"id": 1, "result": {}}, {"id": 2, "result": {}}]`:                                 {true, false},
		`no message`: {true, true},
	} {
		if id, method := kindOf([]byte(message)); id != want[0] || method != want[1] {
			t.Errorf("%s: %v %v", message, id, method)
		}
	}
}

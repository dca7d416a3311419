package people

import (
	"testing"

	"github.com/alexedwards/argon2id"
)

// Comparing with what nobody has takes what comparing with somebody's takes, and never comes out.
func TestNobodyIsComparedLikeSomebody(t *testing.T) {
	params, salt, key, err := argon2id.DecodeHash(nobody())
	if err != nil || *params != *Cost || len(salt) != int(Cost.SaltLength) || len(key) != int(Cost.KeyLength) {
		t.Fatalf("%+v, %d and %d bytes, %v", params, len(salt), len(key), err)
	}
	for _, passphrase := range []string{"", "salt and brine", nobody()} {
		if same, err := argon2id.ComparePasswordAndHash(passphrase, nobody()); same || err != nil {
			t.Errorf("%q: %v, %v", passphrase, same, err)
		}
	}
}

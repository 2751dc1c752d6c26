package cli

import "testing"

func TestWordsAreQuotedForTheShell(t *testing.T) {
	for word, want := range map[string]string{"live": "live", "": "''", "two words": "'two words'", "it's": `'it'\''s'`, "$HOME": "'$HOME'",
		"a;b": "'a;b'", "/tmp/x-1_2.db": "/tmp/x-1_2.db", "größe": "'größe'"} {
		if got := quoteWord(word); got != want {
			t.Errorf("%s is written %s, want %s", word, got, want)
		}
	}
}

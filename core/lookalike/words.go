package lookalike

import (
	"slices"
	"strings"
	"sync"
	"unicode"
)

// words cuts a name into lower-case words: at signs, between small and capital letters,
// between letters and digits.
func words(name string) []string {
	var out []string
	var cur []rune
	flush := func() {
		if len(cur) > 0 {
			out = append(out, strings.ToLower(string(cur)))
			cur = nil
		}
	}
	runes := []rune(name)
	for i, r := range runes {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			flush()
			continue
		case i > 0 && unicode.IsUpper(r) && (unicode.IsLower(runes[i-1]) || i+1 < len(runes) && unicode.IsLower(runes[i+1]) &&
			unicode.IsUpper(runes[i-1])):
			flush()
		case i > 0 && unicode.IsDigit(r) != unicode.IsDigit(runes[i-1]) && len(cur) > 0:
			flush()
		}
		cur = append(cur, r)
	}
	flush()
	return out[:min(len(out), mostWords)]
}

// mostWords and mostLetters bound what is looked at of one name: longer ones are no names.
const (
	mostWords   = 16
	mostLetters = 64
)

// endings are cut off to compare words, the longest first.
var endings = []string{"ations", "ation", "ments", "ment", "nesses", "ness", "ities", "ity", "ings", "ing", "ables", "able", "als", "al",
	"ies", "ied", "ers", "er", "ors", "or", "ed", "es", "ts", "s", "e", "y"}

// leastStem is the least number of letters that an ending leaves.
const leastStem = 3

// irregular are forms that no ending explains.
var irregular = map[string]string{
	"fed": "feed", "sent": "send", "sold": "sell", "taken": "take", "took": "take", "paid": "pay", "bought": "buy", "built": "build",
	"lent": "lend", "left": "leave", "made": "make", "given": "give", "gave": "give",
	"done": "do", "begun": "begin", "written": "write", "held": "hold", "kept": "keep", "found": "find", "lost": "lose", "broken": "break",
	"died": "die", "dying": "die", "seen": "see", "shown": "show", "known": "know",
	"brought": "bring", "caught": "catch", "children": "child", "people": "person", "men": "man", "women": "woman", "feet": "foot",
	"species": "species", "grown": "grow", "drawn": "draw", "driven": "drive", "hung": "hang", "woken": "wake",
}

// stem cuts the ending of an English word off, so that arrival, arrived and arrives are one.
func stem(w string) string {
	if s, ok := irregular[w]; ok {
		w = s
	}
	for _, e := range endings {
		if s, ok := strings.CutSuffix(w, e); ok && len(s) >= leastStem {
			w = s
			break
		}
	}
	if s := strings.TrimRight(w, "ey"); len(s) >= leastStem { // what measured and measurement leave
		w = s
	}
	if n := len(w); n > leastStem && w[n-1] == w[n-2] { // stopped, stopping
		w = w[:n-1]
	}
	return w
}

// opposites are words of which one names what the other does not.
var opposites = [][2]string{
	{"min", "max"}, {"minimum", "maximum"}, {"low", "high"}, {"lower", "upper"}, {"lowest", "highest"}, {"from", "until"}, {"from", "to"},
	{"from", "till"}, {"begin", "end"}, {"start", "end"}, {"start", "stop"}, {"open", "close"}, {"first", "last"},
	{"in", "out"}, {"inflow", "outflow"}, {"on", "off"}, {"left", "right"}, {"top", "bottom"}, {"front", "back"}, {"before", "after"},
	{"old", "new"}, {"planned", "actual"}, {"mother", "father"}, {"origin", "destination"}, {"source", "target"},
	{"next", "last"}, {"next", "previous"}, {"adult", "child"}, {"adults", "children"}, {"home", "office"}, {"mobile", "office"},
	{"net", "gross"}, {"total", "free"}, {"received", "released"}, {"hired", "left"}, {"north", "south"}, {"east", "west"},
	{"width", "height"}, {"length", "width"}, {"height", "depth"}, {"day", "night"},
	{"common", "scientific"}, {"lender", "borrower"}, {"lent", "returned"}, {"order", "delivery"}, {"valid", "invalid"}, {"avg", "max"},
	{"avg", "min"}, {"internal", "external"}, {"incoming", "outgoing"}, {"public", "private"}, {"debit", "credit"}, {"buyer", "seller"},
	{"sender", "receiver"}, {"hot", "cold"}, {"morning", "evening"},
}

// opposed reports whether two words are opposites.
func opposed(a, b string) bool {
	for _, o := range opposites {
		for _, p := range [][2]string{o, {o[1], o[0]}} {
			if (a == p[0] || stem(a) == stem(p[0])) && (b == p[1] || stem(b) == stem(p[1])) {
				return true
			}
		}
	}
	return false
}

// groups are words that mean the same in the names of things, as far as names go.
var groups = [][]string{
	{"arrive", "arrival", "receive", "receipt", "deliver", "delivery", "incoming", "intake", "admission"},
	{"begin", "start", "open", "from", "first", "since", "commence"},
	{"end", "finish", "close", "stop", "until", "till", "last", "to", "expire", "expiry"},
	{"amount", "quantity", "qty", "volume", "portion", "dose", "count", "number"},
	{"number", "num", "no", "nr", "count", "cnt"},
	{"weight", "mass", "gram", "grams", "kg", "kilogram"},
	{"keeper", "staff", "employee", "worker", "personnel", "attendant", "caretaker"},
	{"visitor", "guest", "customer", "client", "attendee"},
	{"price", "cost", "fee", "rate", "charge", "fare"},
	{"note", "remark", "comment", "memo", "annotation"},
	{"kind", "type", "category", "class", "sort", "group"},
	{"name", "title", "label", "caption", "heading"},
	{"phone", "telephone", "mobile", "tel"},
	{"mail", "email"},
	{"address", "location", "place", "site", "position", "spot"},
	{"state", "status", "condition", "phase"},
	{"due", "deadline"},
	{"birth", "born", "hatch", "hatched"},
	{"owner", "holder", "responsible", "assignee"},
	{"picture", "image", "photo", "photograph", "img", "pic"},
	{"temperature", "temp", "heat", "warmth"},
	{"visible", "shown", "display", "displayed", "exhibited", "public"},
	{"remove", "delete", "discard", "drop"},
	{"create", "make", "add", "insert", "register", "enter", "record"},
	{"pick", "choose", "select", "choice", "selection"},
	{"perform", "do", "carry", "execute", "conduct"},
	{"sell", "sale", "vend"},
	{"build", "construct", "erect"},
	{"send", "dispatch", "ship"},
	{"update", "modify", "change", "edit", "alter"},
	{"code", "key", "identifier", "id", "ident"},
	{"size", "length", "extent", "dimension"},
	{"food", "feed", "diet", "meal", "nutrition", "fodder"},
	{"animal", "specimen", "creature", "individual"},
	{"tank", "aquarium", "basin", "pool"},
	{"vendor", "supplier", "provider", "manufacturer"},
	{"order", "purchase"},
	{"approve", "accept", "confirm", "agree", "authorise", "authorize"},
	{"active", "enabled", "live", "current"},
	{"description", "desc", "details", "explanation"},
	{"maximum", "max", "upper", "highest", "limit"},
	{"minimum", "min", "lower", "lowest"},
	{"average", "avg", "mean"},
	{"date", "day", "dt"},
	{"time", "hour", "moment", "timestamp", "ts", "when", "clock"},
	{"duration", "minutes", "length", "span"},
	{"doctor", "vet", "veterinarian", "physician"},
	{"illness", "disease", "sickness"},
	{"treatment", "therapy", "cure", "medication", "medicine", "drug"},
	{"salt", "salinity", "saltiness"},
	{"check", "inspection", "inspect", "examination", "exam", "control", "audit"},
	{"cleaning", "clean", "wash", "scrub"},
	{"sex", "gender"},
	{"language", "lang", "tongue"},
	{"ticket", "admission", "pass"},
	{"user", "usr", "account", "login"},
	{"manager", "mgr", "supervisor", "lead", "head"},
	{"department", "dept", "section", "division", "unit"},
	{"event", "occasion", "show"},
	{"light", "lamp", "brightness", "luminosity"},
	{"planned", "scheduled", "intended", "expected"},
	{"actual", "real", "effective"},
	{"water", "aqua"},
	{"room", "hall", "chamber"},
	{"colour", "color", "tint", "hue"},
	{"device", "machine", "robot", "apparatus", "equipment"},
	{"reason", "cause", "why", "motive"},
	{"next", "following", "upcoming"},
	{"previous", "prior", "former", "prev", "old"},
	{"child", "minor", "kid"},
	{"adult", "grown"},
	{"origin", "source", "src", "provenance"},
	{"destination", "dest", "target"},
	{"message", "msg", "notification", "notice"},
	{"percent", "percentage", "pct", "share", "ratio"},
	{"reference", "ref"},
	{"species", "breed", "race"},
	{"quarantine", "isolation"},
	{"seats", "capacity", "places"},
	{"guide", "ranger", "host"},
	{"tour", "visit", "round"},
	{"acidity", "ph"},
	{"oxygen", "o2"},
	{"death", "died", "deceased", "dead"},
	{"shift", "duty"},
	{"holiday", "leave", "vacation", "absence"},
	{"spare", "reserve", "backup"},
}

// meaning gives the groups that a word belongs to, by its stem.
var meaning = sync.OnceValue(func() map[string][]int {
	out := map[string][]int{}
	for i, g := range groups {
		for _, w := range g {
			for _, form := range []string{w, stem(w)} {
				if n := len(out[form]); n == 0 || out[form][n-1] != i {
					out[form] = append(out[form], i)
				}
			}
		}
	}
	return out
})

// meanings gives the groups of a word, or of the one that it can only stand for.
func meanings(w string) []int {
	if own := append(slices.Clone(meaning()[w]), meaning()[stem(w)]...); len(own) > 0 || len(w) < 4 {
		return own
	}
	var out []int
	for i, g := range groups {
		if slices.ContainsFunc(g, func(long string) bool { return strings.HasPrefix(long, w) }) {
			out = append(out, i)
		}
	}
	if len(out) > 1 {
		return nil
	}
	return out
}

// weak are words that say little: they stand in the names of many different things.
var weak = map[string]float64{
	"id": .25, "date": .45, "time": .45, "at": .2, "on": .2, "of": .1, "the": .1, "a": .1, "is": .15, "has": .2, "in": .2, "by": .3,
	"for": .2, "to": .35, "from": .45, "created": .35, "updated": .35, "changed": .35, "modified": .35, "deleted": .35, "until": .6,
	"name": .5, "code": .45, "number": .45, "no": .45, "num": .45,
	"type": .5, "kind": .5, "text": .4, "value": .35, "flag": .3, "info": .3, "data": .3, "day": .5, "dt": .45, "field": .3, "list": .3,
	"new": .4, "item": .4, "key": .4, "status": .6, "table": .3, "tbl": .2, "fk": .1, "pk": .1, "ref": .3, "label": .5, "title": .5,
	"g": .3, "kg": .3, "l": .3, "cm": .3, "mm": .3,
}

func weightOf(w string) float64 {
	if x, ok := weak[w]; ok {
		return x
	}
	return 1
}

// alike tells how far two words say the same, 0 to 1, and why.
func alike(a, b string) (float64, string) {
	if a == b {
		return 1, "the same word"
	}
	if stem(a) == stem(b) {
		return .95, "one word in two forms"
	}
	if opposed(a, b) {
		return 0, ""
	}
	for _, x := range meanings(a) {
		if slices.Contains(meanings(b), x) {
			return .85, "mean much the same"
		}
	}
	if short, long := a, b; abbreviates(short, long) || abbreviates(long, short) {
		return .8, "one stands for the other"
	}
	if n := max(len(a), len(b)); n >= 6 && n <= mostLetters && a[0] == b[0] { // weight is no height
		if d := distance(a, b); d <= n/5 {
			return .75, "written almost alike"
		}
	}
	return 0, ""
}

// abbreviates reports whether a short word can stand for a long one: its beginning, or its
// letters in order with the first of both the same and no vowels but at the ends.
func abbreviates(short, long string) bool {
	if len(short) < 2 || len(short)*3 > len(long)*2+1 || short[0] != long[0] {
		return false
	}
	if strings.HasPrefix(long, short) {
		return len(short) >= 3
	}
	if strings.ContainsAny(short[1:], "aeiou") || short[len(short)-1] != long[len(long)-1] && len(short) < 3 {
		return false
	}
	at := 0
	for _, r := range long {
		if at < len(short) && byte(r) == short[at] {
			at++
		}
	}
	return at == len(short)
}

// distance is the number of letters to put in, take out or replace (Levenshtein 1966).
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		last := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := last
			if a[i] != b[j] {
				cost++
			}
			last = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}

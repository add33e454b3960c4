package postgresql

import "strings"

// pgaudit names one verb a line, while a statement can need more: the rest is read off its
// text. What the text leaves open counts as needed, since a right that is taken for unused
// would be taken away.
//
// Source: PostgreSQL documentation, "Lexical Structure", and for each statement the
// paragraphs on privileges; tried on PostgreSQL 15.

// A token is a piece of a statement: a word in lower case, a quoted name as it is, or a
// sign. Strings and numbers are "0": what they say matters only where one names a sequence.
type token struct {
	text  string
	word  bool // a word or a quoted name
	quote bool
	said  string // by a string, between its quotes
}

// tokens cuts a statement up, without its comments.
func tokens(s string) []token {
	var out []token
	sign := func(t string) { out = append(out, token{text: t}) }
	for i := 0; i < len(s); {
		c := s[i]
		switch {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f':
			i++
		case strings.HasPrefix(s[i:], "--"):
			if n := strings.IndexByte(s[i:], '\n'); n < 0 {
				i = len(s)
			} else {
				i += n + 1
			}
		case strings.HasPrefix(s[i:], "/*"):
			i += comment(s[i:])
		case c == '\'':
			escapes := i > 0 && (s[i-1] == 'e' || s[i-1] == 'E') && len(out) > 0 && out[len(out)-1].text == "e"
			n := text(s[i:], escapes)
			if escapes {
				out = out[:len(out)-1]
			}
			out = append(out, token{text: "0", said: s[i+1 : max(i+1, i+n-1)]})
			i += n
		case c == '"':
			n := 1
			var name strings.Builder
			for ; i+n < len(s); n++ {
				if s[i+n] == '"' {
					if i+n+1 >= len(s) || s[i+n+1] != '"' {
						break
					}
					n++
				}
				name.WriteByte(s[i+n])
			}
			out = append(out, token{text: name.String(), word: true, quote: true})
			i = min(len(s), i+n+1)
		case c == '$':
			n := dollar(s[i:])
			if n == 0 { // a parameter
				n = 1
				for i+n < len(s) && '0' <= s[i+n] && s[i+n] <= '9' {
					n++
				}
			}
			sign("0")
			i += n
		case letter(c):
			n := 1
			for i+n < len(s) && (letter(s[i+n]) || '0' <= s[i+n] && s[i+n] <= '9' || s[i+n] == '$') {
				n++
			}
			out = append(out, token{text: strings.ToLower(s[i : i+n]), word: true})
			i += n
		case '0' <= c && c <= '9':
			n := 1
			for i+n < len(s) && (letter(s[i+n]) || '0' <= s[i+n] && s[i+n] <= '9' || s[i+n] == '.') {
				n++
			}
			sign("0")
			i += n
		case strings.HasPrefix(s[i:], "::"):
			sign("::")
			i += 2
		default:
			sign(s[i : i+1])
			i++
		}
	}
	return out
}

func letter(c byte) bool {
	return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || c == '_' || c >= 0x80
}

// comment returns how long a comment is; comments nest.
func comment(s string) int {
	depth := 0
	for i := 0; i+1 < len(s); {
		switch s[i : i+2] {
		case "/*":
			depth++
			i += 2
		case "*/":
			depth--
			if i += 2; depth == 0 {
				return i
			}
		default:
			i++
		}
	}
	return len(s)
}

// text returns how long a string is.
func text(s string, escapes bool) int {
	for i := 1; i < len(s); i++ {
		switch {
		case s[i] == '\\' && escapes:
			i++
		case s[i] == '\'' && i+1 < len(s) && s[i+1] == '\'':
			i++
		case s[i] == '\'':
			return i + 1
		}
	}
	return len(s)
}

// dollar returns how long a string between dollar signs is; 0: it is none.
func dollar(s string) int {
	end := strings.IndexByte(s[1:], '$')
	if end < 0 {
		return 0
	}
	tag := s[:end+2]
	for i, c := range []byte(tag[1 : len(tag)-1]) {
		if !letter(c) && (i == 0 || c < '0' || c > '9') {
			return 0
		}
	}
	if n := strings.Index(s[len(tag):], tag); n >= 0 {
		return len(tag) + n + len(tag)
	}
	return len(s)
}

// A statement is what its text says about the rights it takes.
type statement struct {
	words []token
	known bool // false: the log left the text out
}

func parse(text string) *statement {
	if text == "" || strings.HasPrefix(text, "<") {
		return &statement{}
	}
	return &statement{tokens(text), true}
}

// has reports whether words stand beside each other somewhere.
func (s *statement) has(words ...string) bool { return s.find(words...) >= 0 }

func (s *statement) find(words ...string) int {
next:
	for i := 0; i+len(words) <= len(s.words); i++ {
		for j, w := range words {
			if t := s.words[i+j]; t.text != w || t.quote {
				continue next
			}
		}
		return i
	}
	return -1
}

// first returns the first word, behind EXPLAIN, PREPARE name AS and parentheses.
func (s *statement) first() string {
	for i := 0; i < len(s.words); i++ {
		t := s.words[i]
		switch {
		case t.text == "(" || t.text == "explain" || t.text == "analyze" || t.text == "verbose":
		case t.text == "prepare":
			for i < len(s.words) && s.words[i].text != "as" {
				i++
			}
		default:
			return t.text
		}
	}
	return ""
}

// target is a relation by its name, which pgaudit gives, and what a statement calls it.
type target struct{ names []string }

// target finds what a statement calls a relation.
func (s *statement) target(object string) target {
	name := identifiers(object)
	t := target{names: []string{name[len(name)-1]}}
	for i, w := range s.words {
		if !w.word || w.text != t.names[0] || i+1 >= len(s.words) {
			continue
		}
		next := s.words[i+1]
		if next.text == "as" && !next.quote && i+2 < len(s.words) {
			next = s.words[i+2]
		}
		if next.word && (next.quote || !keywords[next.text]) {
			t.names = append(t.names, next.text)
		}
	}
	return t
}

// named reports whether a statement names a relation itself. One that it does not is
// reached through a view, or a rule, with the rights of their owner.
func (s *statement) named(object string) bool {
	if !s.known {
		return true
	}
	name := identifiers(object)
	for _, w := range s.words {
		if w.word && w.text == name[len(name)-1] {
			return true
		}
	}
	return false
}

// keywords end a relation's name, or are no columns.
var keywords = func() map[string]bool {
	out := map[string]bool{}
	for w := range strings.FieldsSeq(`set using where on values default returning from as join inner left right full cross natural select order group having limit
		offset union for when then with tablesample overriding do nothing update insert delete into and or not null true false is in like ilike between exists any all some case else end
		distinct current_date current_time current_timestamp current_user current_role session_user user localtime localtimestamp interval array row cast collate
		isnull notnull asc desc only matched conflict constraint share key no of nowait skip locked`) {
		out[w] = true
	}
	return out
}()

// reads reports whether tokens read a column of a relation: a name that nothing else
// explains, or one behind a name of the relation.
func reads(list []token, of target) bool {
	for i := 0; i < len(list); i++ {
		t := list[i]
		if t.text == "*" && !t.quote && (i == 0 || list[i-1].text == "," || list[i-1].word) {
			return true // all of it
		}
		if !t.word || !t.quote && keywords[t.text] {
			continue
		}
		// A name with what stands before it: schema.relation.column.
		chain := []string{t.text}
		typed := i > 0 && list[i-1].text == "::"
		for i+2 < len(list) && list[i+1].text == "." {
			i += 2
			chain = append(chain, list[i].text)
		}
		switch n := len(chain); {
		case typed, i+1 < len(list) && list[i+1].text == "(": // a type, a function
		case n == 1:
			return true
		default:
			for _, name := range of.names {
				if chain[n-2] == name {
					return true
				}
			}
		}
	}
	return false
}

// clause returns what follows words up to one of others.
func (s *statement) clause(ends []string, words ...string) []token {
	at := s.find(words...)
	if at < 0 {
		return nil
	}
	rest := s.words[at+len(words):]
	for i, t := range rest {
		for _, e := range ends {
			if t.word && !t.quote && t.text == e {
				return rest[:i]
			}
		}
	}
	return rest
}

// alsoSelect reports whether changing a relation takes the right to read it as well.
func (s *statement) alsoSelect(object string) bool {
	if !s.known {
		return true
	}
	of := s.target(object)
	if reads(s.clause([]string{"returning"}, "where"), of) || reads(s.clause(nil, "returning"), of) {
		return true
	}
	if s.first() == "insert" {
		return false
	}
	// What is assigned: the names before each '=' are written, not read.
	set := s.clause([]string{"where", "from", "returning"}, "set")
	depth, from := 0, -1
	for i := 0; i <= len(set); i++ {
		switch {
		case i == len(set) || set[i].text == "," && depth == 0:
			if from >= 0 && reads(set[from:min(i, len(set))], of) {
				return true
			}
			from = -1
		case set[i].text == "(":
			depth++
		case set[i].text == ")":
			depth--
		case set[i].text == "=" && depth == 0 && from < 0:
			from = i + 1
		}
	}
	return false
}

// more returns what a line of pgaudit does not say: the verbs that a statement takes on a
// relation beside the one that is named.
func (s *statement) more(command, object string) []string {
	merge := s.known && s.has("merge", "into")
	switch command {
	case "SELECT":
		for _, lock := range [][]string{{"for", "update"}, {"for", "share"}, {"for", "no", "key", "update"},
			{"for", "key", "share"}} {
			if at := s.find(lock...); at >= 0 && s.locks(at+len(lock), object) {
				return []string{"update"}
			}
		}
	case "INSERT", "UPDATE", "DELETE":
		if merge {
			out := []string{"select"}
			for _, verb := range []string{"update", "insert", "delete"} {
				if s.has("then", verb) && verb != strings.ToLower(command) {
					out = append(out, verb)
				}
			}
			return out
		}
		var out []string
		if command == "INSERT" && (!s.known || s.has("on", "conflict")) {
			if s.has("do", "update") {
				out = append(out, "update", "select")
			} else if !s.known || !s.has("on", "conflict", "do") {
				out = append(out, "select") // what decides the conflict is read
			}
		}
		if len(out) == 0 && s.alsoSelect(object) {
			out = append(out, "select")
		}
		return out
	}
	return nil
}

// locks reports whether the rest of a locking clause concerns a relation: OF names some.
func (s *statement) locks(at int, object string) bool {
	if at >= len(s.words) || s.words[at].text != "of" {
		return true
	}
	of := s.target(object)
	for _, t := range s.words[at+1:] {
		for _, n := range of.names {
			if t.word && t.text == n {
				return true
			}
		}
		if t.word && !t.quote && keywords[t.text] {
			break
		}
	}
	return false
}

// truncated returns the relations that a TRUNCATE names; pgaudit names none.
func (s *statement) truncated() []string {
	at := s.find("truncate")
	if at < 0 {
		return nil
	}
	var out []string
	name := ""
	end := func() {
		if name != "" {
			out = append(out, name)
		}
		name = ""
	}
	for _, t := range s.words[at+1:] {
		switch {
		case !t.quote && (t.text == "table" || t.text == "only" || t.text == "*"):
		case t.text == ",":
			end()
		case !t.quote && (t.text == "restart" || t.text == "continue" || t.text == "cascade" || t.text == "restrict" ||
			t.text == ";"):
			end()
			return out
		case t.text == ".":
			name += "."
		case t.word:
			name += `"` + strings.ReplaceAll(t.text, `"`, `""`) + `"`
		}
	}
	end()
	return out
}

// touches reports whether a statement touches relations at all: a line without one hides
// them then.
func (s *statement) touches() bool {
	if !s.known {
		return true
	}
	for i, t := range s.words {
		if t.quote {
			continue
		}
		switch t.text {
		case "from", "join", "into":
			// FROM of a function, as generate_series(1, 9), or of a subquery is no relation.
			if i+1 >= len(s.words) || s.words[i+1].text == "(" {
				continue
			}
			j := i + 1
			for j+2 < len(s.words) && s.words[j+1].text == "." {
				j += 2
			}
			if j+1 < len(s.words) && s.words[j+1].text == "(" && t.text != "into" {
				continue
			}
			return true
		case "update", "delete", "merge", "truncate", "copy":
			if i == 0 {
				return true
			}
		case "table":
			if i == 0 {
				return true
			}
		}
	}
	return false
}

// schema returns the schema that a statement puts before a name that a message gives
// without one.
func (s *statement) schema(name string) string {
	for i := 2; i < len(s.words); i++ {
		if s.words[i].word && s.words[i].text == name && s.words[i-1].text == "." && s.words[i-2].word {
			return s.words[i-2].text
		}
	}
	for _, t := range s.words { // nextval('yard.numbers')
		if parts := identifiers(t.said); len(parts) > 1 && parts[len(parts)-1] == name {
			return parts[len(parts)-2]
		}
	}
	return ""
}

// denied returns the verb that was refused on a relation: what the statement does to it, or
// else reading it.
func (s *statement) denied(name string) string {
	if !s.known {
		return "unknown"
	}
	is := func(i int) bool { // whether the name begins at i, with its schema or without
		if i < len(s.words) && s.words[i].text == "only" && !s.words[i].quote {
			i++
		}
		if i+2 < len(s.words) && s.words[i+1].text == "." {
			i += 2
		}
		return i < len(s.words) && s.words[i].word && s.words[i].text == name
	}
	times := 0
	for _, t := range s.words {
		if t.word && t.text == name {
			times++
		}
	}
	for i, t := range s.words {
		if t.quote {
			continue
		}
		switch t.text {
		case "into":
			if is(i+1) && i > 0 && s.words[i-1].text == "insert" {
				if times > 1 { // read as well: that is what is missing more often
					return "select"
				}
				return "insert"
			}
		case "update":
			if is(i + 1) {
				return "update"
			}
		case "from":
			if i > 0 && s.words[i-1].text == "delete" && is(i+1) {
				return "delete"
			}
		case "truncate":
			if s.words[min(i+1, len(s.words)-1)].text == "table" && is(i+2) || is(i+1) {
				return "truncate"
			}
		case "copy":
			if is(i+1) && s.has("from") {
				return "insert"
			}
		}
	}
	return "select"
}

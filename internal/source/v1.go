package source

import (
	"encoding/json"
	"fmt"
)

// FormatVersion is the version of the records and documents of this program: of what
// the store keeps, what a ledger entry replaces, and what the bridge protocol carries.
const FormatVersion = 2

// words are how one field was called, and its values, before FormatVersion 2.
type words struct {
	was, is string
	values  map[string]string
}

var (
	wasPlaces = words{was: "on", is: "where"}
	wasOn     = words{was: "on", is: "written"}
	wasSide   = words{"side", "kept_with", map[string]string{"identity": "holder", "resource": "place"}}
	wasLevel  = words{"level", "level", map[string]string{"list": "see", "write": "change"}}

	renamed = map[string][]words{
		Permissions: {wasLevel}, Grants: {wasPlaces, wasSide}, Denials: {wasPlaces}, Ceilings: {wasPlaces},
		Coverage: {wasOn},
	}
)

// FromV1 brings the value of a record, or a document, of the first format to the words
// of FormatVersion. What is in those words already stays as it is.
func FromV1(kind string, raw json.RawMessage) (json.RawMessage, error) {
	if len(raw) == 0 || renamed[kind] == nil && kind != LogSettings {
		return raw, nil
	}
	var doc map[string]json.RawMessage
	if err := json.Unmarshal(raw, &doc); err != nil {
		return nil, fmt.Errorf("%s of the first format: %w", kind, err)
	}
	if kind == LogSettings {
		var logs []map[string]json.RawMessage
		if err := json.Unmarshal(doc["logs"], &logs); err != nil {
			return nil, fmt.Errorf("%s of the first format: logs: %w", kind, err)
		}
		for _, l := range logs {
			wasOn.rename(l)
		}
		var err error
		if doc["logs"], err = json.Marshal(logs); err != nil {
			return nil, err
		}
	}
	for _, w := range renamed[kind] {
		w.rename(doc)
	}
	return json.Marshal(doc)
}

func (w words) rename(doc map[string]json.RawMessage) {
	v, ok := doc[w.was]
	if _, both := doc[w.is]; !ok || both && w.is != w.was {
		return
	}
	var text string
	if json.Unmarshal(v, &text) == nil && w.values[text] != "" {
		v, _ = json.Marshal(w.values[text]) // a string: cannot fail
	}
	delete(doc, w.was)
	doc[w.is] = v
}

// GateFromV1 does the same for a request for a gate, with the policy in it.
func GateFromV1(raw json.RawMessage) (json.RawMessage, error) {
	var request, policy, opens map[string]json.RawMessage
	err := json.Unmarshal(raw, &request)
	if err == nil {
		err = json.Unmarshal(request["policy"], &policy)
	}
	if err == nil {
		err = json.Unmarshal(policy["opens"], &opens)
	}
	if err != nil {
		return nil, fmt.Errorf("gate request of the first format: %w", err)
	}
	wasPlaces.rename(opens)
	if policy["opens"], err = json.Marshal(opens); err != nil {
		return nil, err
	}
	policy["gate"] = json.RawMessage("2")
	if request["policy"], err = json.Marshal(policy); err != nil {
		return nil, err
	}
	return json.Marshal(request)
}

package model

// CatalogueField is a field that a node or link may have, as forms and completion show
// it.
type CatalogueField struct {
	Path    string   `json:"path" doc:"with a dot where it lies in a map: read.up-to"`
	Form    string   `json:"form" enum:"text,duration,rate,share,size,whole,number,truth,choice,words,node,distribution,expression,anything" doc:"what is written there; words: a text or a list of texts; node: the name of a node"`
	Choices []string `json:"choices" doc:"of the form choice"`
	Default string   `json:"default" doc:"what holds where nothing is written; empty: nothing"`
	About   string   `json:"about"`
	On      []string `json:"on" doc:"of a link: the kinds that it may leave from; empty: all"`
	Group   string   `json:"group" enum:"General,Trigger,Reading,Failure,Sends,Limits and cost" doc:"the heading it stands under in a form"`
}

// KindOf is what a kind of node may have.
type KindOf struct {
	Kind   string           `json:"kind"`
	About  string           `json:"about"`
	Fields []CatalogueField `json:"fields"`
}

// Catalogue is every field of nodes and links.
type Catalogue struct {
	Kinds []KindOf         `json:"kinds"`
	Link  []CatalogueField `json:"link"`
}

// WholeCatalogue gives every field of nodes and links.
func WholeCatalogue() Catalogue {
	out := Catalogue{Link: shown(linkFields)}
	for k := range kinds {
		t := &kinds[k]
		kind := KindOf{Kind: string(t.kind), About: t.about}
		for _, name := range t.fields {
			f := *nodeField(name)
			if value, ok := t.defaults[name]; ok {
				f.fallback = value
			}
			kind.Fields = append(kind.Fields, shown([]fieldSpec{f})...)
		}
		kind.Fields = append(kind.Fields, shown(everyNode)...)
		out.Kinds = append(out.Kinds, kind)
	}
	return out
}

// shown gives fields as they are shown; their lists are never null.
func shown(fields []fieldSpec) []CatalogueField {
	var out []CatalogueField
	for k := range fields {
		f := &fields[k]
		form, choices := f.form, f.choices()
		if choices != nil {
			form = "choice"
		}
		out = append(out, CatalogueField{
			Path: f.path, Form: form, Choices: notNull(choices), Default: f.fallback, About: f.about,
			On: notNull(f.on), Group: f.group,
		})
	}
	return out
}

func notNull(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

package doc

// Part adds a list with a title, if there is anything in it.
func (d *Document) Part(title string, l List) {
	if len(l) > 0 {
		d.Add(Heading{Title: title, Note: ""}, l)
	}
}

// Lines is a list of texts.
func Lines(texts []string) (l List) {
	for _, t := range texts {
		l = append(l, Line{Usual(t)})
	}
	return l
}

// Clipped is a text as far as a table has room for it.
func Clipped(text string) string {
	const most = 60
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	return text
}

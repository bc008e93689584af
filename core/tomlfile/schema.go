package tomlfile

// Schema returns a JSON Schema (draft 2020-12) for files with these keys, for editors. It covers
// form, not meaning, so it accepts more than Read does.
func Schema(title string, keys []Key) map[string]any {
	schema := tableSchema(keys)
	schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	schema["title"] = title
	return schema
}

func tableSchema(keys []Key) map[string]any {
	properties := map[string]any{}
	required := []string{}
	for _, k := range keys {
		s := k.schema()
		s["description"] = k.About
		properties[k.Name] = s
		if k.Required {
			required = append(required, k.Name)
		}
	}
	return map[string]any{"type": "object", "properties": properties, "required": required, "additionalProperties": false}
}

// schema describes the form of a key's value.
func (k Key) schema() map[string]any {
	text := map[string]any{"type": "string"}
	choice := map[string]any{"type": []string{"boolean", "string", "integer", "array"}, "items": text}
	listOf := func(items map[string]any) map[string]any { return map[string]any{"type": "array", "items": items} }
	namesTo := func(values map[string]any) map[string]any {
		return map[string]any{"type": "object", "additionalProperties": values}
	}
	switch k.Kind {
	case kindTexts:
		return listOf(text)
	case kindOneOrMore:
		return map[string]any{"anyOf": []any{text, listOf(text)}}
	case kindFlag:
		return map[string]any{"type": "boolean"}
	case kindChoice:
		return choice
	case kindNumber:
		return map[string]any{"type": "integer"}
	case KindTable:
		return tableSchema(k.Inside())
	case KindTables:
		return listOf(tableSchema(k.Inside()))
	case KindNamed:
		return namesTo(tableSchema(k.Inside()))
	case kindPairs:
		return namesTo(text)
	case kindLists:
		return namesTo(listOf(text))
	case kindChoices:
		return namesTo(choice)
	}
	return text // which is read further
}

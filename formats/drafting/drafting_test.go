package drafting_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
	"ironweir/formats/drafting"
)

func TestNames(t *testing.T) {
	d := drafting.New(model.MapValue())
	require.Equal(t, "lamps-measured", d.Name("Lamps/Measured!", "channel"))
	require.Equal(t, "lamps-measured-2", d.Name("lamps measured", "channel"))
	require.Equal(t, "channel-7", d.Name("7", "channel"))
	require.Equal(t, "channel", d.Name("…", "channel"))
	d.Free("lamps-measured")
	require.Equal(t, "lamps-measured", d.Name("lamps measured", "channel"))
}

func TestReferences(t *testing.T) {
	doc, err := model.ReadDocument("d.yaml", []byte(`
a/b: {name: found}
once: {$ref: "#/a~1b"}
twice: {$ref: "#/once"}
round: {$ref: "#/round"}
`))
	require.NoError(t, err)
	d := drafting.New(doc)
	for _, from := range []string{"once", "twice"} {
		v, key := d.At(doc.Get(from))
		require.Equal(t, "found", drafting.Scalar(v, "name"), from)
		require.Equal(t, "a/b", key, from)
	}
	v, _ := d.At(doc.Get("round"))
	require.Nil(t, v)
	for _, lost := range []string{"#/a~1b/none/name", "other.yaml#/x"} {
		v, _ := d.At(model.MapValue().Add("$ref", model.TextValue(lost)))
		require.Nil(t, v, lost)
	}
	require.Equal(t, []string{
		"#/a~1b/none/name points to nothing", "other.yaml#/x is in another document and was not read",
	}, d.Missing)
	require.Equal(t, "a~1b~0", drafting.Escaped(drafting.Unescaped("a~1b~0")))
}

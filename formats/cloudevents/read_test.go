package cloudevents_test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/formats/cloudevents"
)

const one = `{"specversion":"1.0","id":"7","source":"/scale","type":"weighed","subject":"lane/2","time":"2026-03-27T12:00:00Z","data":{"kg":40}}`

func TestTheJSONForms(t *testing.T) {
	for name, text := range map[string]string{
		"structured": one, "batch": "[" + one + "]", "lines": one + "\n\n" + one + "\n", "pretty": "{\n" + one[1:],
	} {
		t.Run(name, func(t *testing.T) {
			events, err := cloudevents.Read([]byte(text))
			require.NoError(t, err)
			require.NotEmpty(t, events)
			require.Equal(t, "lane/2", events[0].Subject)
			require.Equal(t, map[string]any{"kg": 40.0}, events[0].Data)
			require.Equal(t, "2026-03-27T12:00:00Z", events[0].Time.Format("2006-01-02T15:04:05Z07:00"))
		})
	}
}

func TestBase64IsDecoded(t *testing.T) {
	events, err := cloudevents.Read(
		[]byte(
			`{"specversion":"1.0","id":"7","source":"/scale","type":"weighed","datacontenttype":"application/json","data_base64":"eyJrZyI6NDB9"}`,
		),
	)
	require.NoError(t, err)
	require.Equal(t, map[string]any{"kg": 40.0}, events[0].Data)
}

func TestFaultsNameTheirPlace(t *testing.T) {
	for text, want := range map[string]string{
		"":                                   "empty",
		"{\n\"specversion\":":                "line 2",
		`{"id":"7"}`:                         "CloudEvent",
		"[" + one + ",{}]":                   "event 2 of the batch",
		one + "\n" + `{"specversion":"1.0"}`: "line 2",
		`{"specversion":"1.0","id":"7","source":"/s","type":"t","data_base64":"***"}`: "CloudEvent",
		`{"specversion":"1.0","id":"7","type":"t"}`:                                   "source",
	} {
		_, err := cloudevents.Read([]byte(text))
		require.ErrorContains(t, err, want, text)
	}
}

func TestCSV(t *testing.T) {
	events, err := cloudevents.ReadCSV(
		[]byte(
			"time,key,size,data\n2026-03-27T12:00:00Z,a/1.csv,900,\"{\"\"kg\"\": 3}\"\n2026-03-27T12:00:01.5Z,a/2.csv,,\n",
		),
	)
	require.NoError(t, err)
	require.Len(t, events, 2)
	require.Equal(t, int64(900), events[0].Size)
	require.Equal(t, map[string]any{"kg": 3.0}, events[0].Data)
	for text, want := range map[string]string{
		"key\na\n":                            "column `time`",
		"time\nyesterday\n":                   "line 2",
		"time,when\n2026-01-01T00:00:00Z,x\n": "unknown column",
		"time,data\n2026-01-01T00:00:00Z,{\n": "line 2",
	} {
		_, err := cloudevents.ReadCSV([]byte(text))
		require.ErrorContains(t, err, want, text)
	}
}

func TestWhatIsNoEventIsRefusedWithThePlace(t *testing.T) {
	event := func(more string) string {
		return `{"specversion":"1.0","id":"7","source":"/s","type":"t"` + more + `}`
	}
	for text, want := range map[string]string{
		event(`,"data":1,"data_base64":"AQ=="`):                         "`data_base64` stands beside `data`",
		event(`,"Shift":"late"`):                                        "`Shift` is not an attribute name",
		event(`,"trace_parent":"x"`):                                    "`trace_parent` is not an attribute name",
		event(`,"load":1.5`):                                            "`load` is 1.5: a number in an attribute is whole",
		event(`,"load":3000000000`):                                     "at most 32 bits",
		event(`,"load":{"a":1}`):                                        "`load` is a map or a list",
		event(`,"time":"yesterday"`):                                    "`time` is \"yesterday\": use RFC 3339",
		event(`,"subject":""`):                                          "`subject` must be a text that is not empty",
		event(`,"datacontenttype":"json?"`):                             "not a media type",
		event(`,"dataschema":"schema.json"`):                            "not an absolute URI",
		event(`,"id":"8"`):                                              "`id` occurs twice",
		event(`,"data_base64":7`):                                       "`data_base64` must be text",
		`{"specversion":"1.0","id":7,"source":"/s","type":"t"}`:         "`id` must be a text",
		`{"specversion":"1.0","id":"7","source":"a b","type":"t"}`:      "`source` is \"a b\", which is not a URI reference",
		`{"specversion":"0.3","id":"7","source":"/s","type":"t"}`:       "`specversion` must be",
		`{"specversion":"1.0","id":"7","source":"/s","type":"t\u0001"}`: "control character",
	} {
		_, err := cloudevents.Read([]byte(text))
		require.ErrorContains(t, err, want, text)
	}
	events, err := cloudevents.Read([]byte(event(`,"subject":null,"night":true,"load":3,"data":null`)))
	require.NoError(t, err)
	require.Equal(t, map[string]any{"night": true, "load": 3.0}, events[0].Extensions)
	require.Nil(t, events[0].Data)
}

func TestBytesAreKept(t *testing.T) {
	events, err := cloudevents.Read(
		[]byte(`[{"specversion":"1.0","id":"1","source":"/s","type":"t","data":{"n":12345678901234567890}},
		{"specversion":"1.0","id":"2","source":"/s","type":"t","datacontenttype":"text/plain","data":"words"},
		{"specversion":"1.0","id":"3","source":"/s","type":"t","datacontenttype":"application/octet-stream","data_base64":"/wAB"}]`),
	)
	require.NoError(t, err)
	require.Equal(t, `{"n":12345678901234567890}`, string(events[0].Bytes))
	require.Equal(t, "words", events[1].Data)
	require.False(t, events[1].Binary)
	require.Equal(t, []byte{0xff, 0, 1}, events[2].Bytes)
	require.True(t, events[2].Binary)
}

func TestHTTP(t *testing.T) {
	header := func(pairs ...string) http.Header {
		h := http.Header{"Ce-Specversion": {"1.0"}, "Ce-Id": {"1"}, "Ce-Source": {"/s"}, "Ce-Type": {"t"}}
		for i := 0; i < len(pairs); i += 2 {
			h.Add(pairs[i], pairs[i+1])
		}
		return h
	}
	for value, want := range map[string]string{`Euro%20%E2%82%AC%20%F0%9F%98%80`: "Euro € 😀", `"a \"quoted\" b"`: `a "quoted" b`, `"%25"`: "%", "50%": "50%", "plain": "plain"} {
		events, found, err := cloudevents.FromHTTP(header("ce-subject", value), nil)
		require.NoError(t, err, value)
		require.True(t, found)
		require.Equal(t, want, events[0].Subject)
	}
	for _, c := range []struct {
		header http.Header
		says   string
	}{
		{header("ce-subject", "%ff"), "not UTF-8"}, {header("ce-subject", `"open`), "double quote"}, {header("ce-sub_ject", "x"), "not an attribute name"},
		{header("ce-id", "2"), "two headers"}, {header("ce-data", "x"), "the payload is the body"}, {header("Content-Type", "???"), "media type"},
		{header("Content-Type", "application/cloudevents+avro"), "unknown form"},
	} {
		_, found, err := cloudevents.FromHTTP(c.header, []byte("x"))
		require.True(t, found)
		require.ErrorContains(t, err, c.says)
	}
	_, found, err := cloudevents.FromHTTP(http.Header{"Content-Type": {"application/json"}}, []byte("{}"))
	require.NoError(t, err)
	require.False(t, found)
}

func FuzzRead(f *testing.F) {
	f.Add("{\"specversion\":\"1.0\",\"id\":\"1\",\"source\":\"s\",\"type\":\"t\",\"data\":{\"a\":1}}")
	f.Add("[{\"specversion\":\"1.0\",\"id\":\"1\",\"source\":\"s\",\"type\":\"t\",\"data_base64\":\"AQ==\"}]")
	f.Add("time,subject,data\n2026-01-01T00:00:00Z,a,{}\n")
	f.Fuzz(func(t *testing.T, text string) {
		if events, err := cloudevents.Read([]byte(text)); err == nil && len(events) == 0 {
			t.Fatal("neither events nor an error")
		}
		_, _ = cloudevents.ReadCSV([]byte(text))
	})
}

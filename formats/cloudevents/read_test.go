package cloudevents_test

import (
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
	events, err := cloudevents.Read([]byte(`{"specversion":"1.0","id":"7","source":"/scale","type":"weighed","datacontenttype":"application/json","data_base64":"eyJrZyI6NDB9"}`))
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
	events, err := cloudevents.ReadCSV([]byte("time,key,size,data\n2026-03-27T12:00:00Z,a/1.csv,900,\"{\"\"kg\"\": 3}\"\n2026-03-27T12:00:01.5Z,a/2.csv,,\n"))
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

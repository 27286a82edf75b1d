// Command hooks answers for functions of a model in a rehearsal: an example to
// start from. Each run comes as one CloudEvent, or as a batch where its link reads
// several messages at once. An answer with a status of 200 to 299 is a run that
// succeeded, any other one that failed; events in the answer are what the run
// sends, and without any it sends what the model says.
//
//	go run ./demo/hooks -listen 127.0.0.1:9000
package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"net/http"

	sdk "github.com/cloudevents/sdk-go/v2"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:9000", "address")
	flag.Parse()
	log.Printf("answering at http://%s/", *listen)
	log.Fatal(http.ListenAndServe(*listen, http.HandlerFunc(clear)))
}

// clear clears a consignment unless it is overweight.
func clear(w http.ResponseWriter, r *http.Request) {
	event, err := sdk.NewEventFromHTTPRequest(r)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	var line struct {
		Kg float64 `json:"kg"`
	}
	if err := event.DataAs(&line); err != nil {
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	}
	log.Printf("%s: %s, %.0f kg", r.Header.Get("Ironweir-Node"), event.Subject(), line.Kg)
	if line.Kg > 44000 {
		http.Error(w, fmt.Sprintf("%.0f kg is more than a lane bears", line.Kg), http.StatusUnprocessableEntity)
		return
	}
	said := sdk.NewEvent()
	said.SetID(event.ID())
	said.SetSource("hooks")
	said.SetType("consignment.cleared")
	said.SetSubject(event.Subject())
	said.SetExtension("link", "announcements") // the link of the function that it goes by
	if err := said.SetData(sdk.ApplicationJSON, map[string]any{"kg": line.Kg, "cleared": true}); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", sdk.ApplicationCloudEventsJSON)
	if err := json.NewEncoder(w).Encode(said); err != nil {
		log.Print(err)
	}
}

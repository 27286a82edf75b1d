package service

import (
	"encoding/json"
	"strconv"
)

func itoa(n int) string { return strconv.Itoa(n) }

func quote(s string) string {
	text, _ := json.Marshal(s)
	return string(text)
}

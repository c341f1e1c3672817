// Answers for Go's pflag: GO111MODULE=off GOPATH=… go run in_pflag.go < requests > answers (see in_python.py).
package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/pflag"
)

type option struct {
	Spellings []string `json:"spellings"`
	Name      string   `json:"name"`
	Type      *string  `json:"type"`
	Of        []string `json:"of"`
}

type request struct {
	Options  []option   `json:"options"`
	Operands [][]string `json:"operands"`
	Vectors  [][]string `json:"vectors"`
}

func checked(kind, text string) (any, error) {
	if kind == "int" {
		return strconv.Atoi(text)
	}
	return text, nil
}

func bound(words []string, operands [][]string, found map[string]any) error {
	least, most := 0, len(operands)
	for _, each := range operands {
		if each[1] == "one" || each[1] == "many" {
			least++
		}
		if each[1] == "many" || each[1] == "any" {
			most = 99
		}
	}
	if len(words) < least || len(words) > most {
		return errors.New("operands")
	}
	for at, each := range operands {
		behind := 0
		for _, later := range operands[at+1:] {
			if later[1] == "one" || later[1] == "many" {
				behind++
			}
		}
		if each[1] == "one" || each[1] == "optional" {
			if each[1] == "optional" && len(words) <= behind {
				continue
			}
			value, err := checked(each[2], words[0])
			if err != nil {
				return err
			}
			found[each[0]], words = value, words[1:]
			continue
		}
		var taken []any
		for len(words) > behind {
			value, err := checked(each[2], words[0])
			if err != nil {
				return err
			}
			taken, words = append(taken, value), words[1:]
		}
		if taken != nil {
			found[each[0]] = taken
		}
	}
	return nil
}

func answer(r request, words []string) []any {
	set := pflag.NewFlagSet("p", pflag.ContinueOnError)
	set.SetOutput(io.Discard)
	long := map[string]string{}
	for _, o := range r.Options {
		short, name := "", ""
		for _, spelling := range o.Spellings {
			if strings.HasPrefix(spelling, "--") {
				name = spelling[2:]
			} else {
				short = spelling[1:]
			}
		}
		long[o.Name] = name
		kind := ""
		if o.Type != nil {
			kind = *o.Type
		}
		switch kind {
		case "":
			set.BoolP(name, short, false, "")
		case "int":
			set.IntP(name, short, 0, "")
		case "float":
			set.Float64P(name, short, 0, "")
		default:
			set.StringP(name, short, "", "")
		}
	}
	if err := set.Parse(words); err != nil {
		if errors.Is(err, pflag.ErrHelp) {
			return []any{0, "stdout", nil}
		}
		return []any{2, "stderr", nil}
	}
	found := map[string]any{}
	for _, o := range r.Options {
		name := long[o.Name]
		if !set.Changed(name) {
			continue
		}
		text := set.Lookup(name).Value.String()
		switch {
		case o.Type == nil:
			if text == "true" {
				found[o.Name] = true
			}
		case *o.Type == "int":
			number, _ := strconv.Atoi(text)
			found[o.Name] = number
		case *o.Type == "float":
			number, _ := strconv.ParseFloat(text, 64)
			if text == "NaN" {
				found[o.Name] = "nan"
			} else {
				found[o.Name] = number
			}
		default:
			fits := *o.Type != "choice"
			for _, each := range o.Of {
				fits = fits || each == text
			}
			if !fits {
				return []any{1, "stderr", nil}
			}
			found[o.Name] = text
		}
	}
	if err := bound(set.Args(), r.Operands, found); err != nil {
		return []any{1, "stderr", nil}
	}
	return []any{0, "", found}
}

func main() {
	lines := bufio.NewScanner(os.Stdin)
	lines.Buffer(make([]byte, 1<<20), 1<<26)
	for lines.Scan() {
		var r request
		if err := json.Unmarshal(lines.Bytes(), &r); err != nil {
			panic(err)
		}
		answers := [][]any{}
		for _, words := range r.Vectors {
			answers = append(answers, answer(r, words))
		}
		text, err := json.Marshal(answers)
		if err != nil {
			panic(err)
		}
		fmt.Println(string(text))
	}
}

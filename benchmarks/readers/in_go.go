// Answers for Go's flag package: go run in_go.go < requests > answers (see in_python.py).
package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
)

type option struct {
	Spellings []string `json:"spellings"`
	Name      string   `json:"name"`
	Type      *string  `json:"type"`
	Of        []string `json:"of"`
}

type request struct {
	Options  []option    `json:"options"`
	Operands [][]string  `json:"operands"`
	Vectors  [][]string  `json:"vectors"`
}

type seen struct {
	flag.Value
	given *bool
}

func (s seen) Set(text string) error { *s.given = true; return s.Value.Set(text) }
func (s seen) IsBoolFlag() bool {
	b, ok := s.Value.(interface{ IsBoolFlag() bool })
	return ok && b.IsBoolFlag()
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
		switch each[1] {
		case "one", "optional":
			if each[1] == "optional" && len(words) <= behind {
				continue
			}
			value, err := checked(each[2], words[0])
			if err != nil {
				return err
			}
			found[each[0]], words = value, words[1:]
		default:
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
	}
	return nil
}

func answer(r request, words []string) []any {
	set := flag.NewFlagSet("p", flag.ContinueOnError)
	set.SetOutput(io.Discard)
	given := map[string]*bool{}
	values := map[string]flag.Value{}
	for _, o := range r.Options {
		mark := new(bool)
		given[o.Name] = mark
		scratch := flag.NewFlagSet("", flag.ContinueOnError)
		kind := ""
		if o.Type != nil {
			kind = *o.Type
		}
		switch kind {
		case "":
			scratch.Bool("x", false, "")
		case "int":
			scratch.Int("x", 0, "")
		case "float":
			scratch.Float64("x", 0, "")
		default:
			scratch.String("x", "", "")
		}
		value := scratch.Lookup("x").Value
		values[o.Name] = value
		for _, spelling := range o.Spellings {
			set.Var(seen{value, mark}, strings.TrimLeft(spelling, "-"), "")
		}
	}
	if err := set.Parse(words); err != nil {
		if errors.Is(err, flag.ErrHelp) {
			return []any{0, "stderr", nil}
		}
		return []any{2, "stderr", nil}
	}
	found := map[string]any{}
	for _, o := range r.Options {
		if !*given[o.Name] {
			continue
		}
		value := values[o.Name].(flag.Getter).Get()
		if value == false {
			continue
		}
		if o.Type != nil && *o.Type == "choice" {
			fits := false
			for _, each := range o.Of {
				fits = fits || each == value
			}
			if !fits {
				return []any{1, "stderr", nil}
			}
		}
		found[o.Name] = value
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
			// an infinity or no number at all: JSON has none of them
			text = []byte("null")
		}
		fmt.Println(string(text))
	}
}

package site_test

import (
	"encoding/json"
	"reflect"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/site"
)

// fill puts something into every field that is written down.
func fill(t *rapid.T, v reflect.Value, id *int64) {
	switch v.Kind() {
	case reflect.Struct:
		if v.Type() == reflect.TypeFor[time.Time]() {
			v.Set(reflect.ValueOf(time.Unix(rapid.Int64Range(1, 1<<33).Draw(t, "time"), 0).UTC()))
			return
		}
		for i := range v.NumField() {
			f := v.Type().Field(i)
			if !f.IsExported() || f.Tag.Get("json") == "-" {
				continue
			}
			fill(t, v.Field(i), id)
			if f.Name == "ID" && v.Field(i).CanInt() {
				*id++
				v.Field(i).SetInt(*id)
			}
		}
	case reflect.Slice:
		n := rapid.IntRange(1, 2).Draw(t, "some")
		v.Set(reflect.MakeSlice(v.Type(), n, n))
		for i := range n {
			fill(t, v.Index(i), id)
		}
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		key, value := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
		fill(t, key, id)
		fill(t, value, id)
		v.SetMapIndex(key, value)
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(t, v.Elem(), id)
	case reflect.String:
		v.SetString(rapid.StringMatching(`[a-z]{1,6}`).Draw(t, "text"))
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		v.SetInt(int64(rapid.IntRange(1, 5).Draw(t, "number")))
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		v.SetUint(uint64(rapid.IntRange(1, 5).Draw(t, "number")))
	}
}

// Every field of the records belongs to some kind: a site that is taken apart, written down and put together again is the same.
func TestASiteIsWhatItsRecordsAre(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var r site.Records
		id := int64(0)
		fill(t, reflect.ValueOf(&r).Elem(), &id)
		for i := range r.Folders {
			fill(t, reflect.ValueOf(&r.Folders[i].Rules).Elem(), &id)
			for j := range r.Folders[i].Rules {
				r.Folders[i].Rules[j].Path = string(rune('a' + j))
			}
		}
		all := make(map[site.Key]json.RawMessage)
		r.Each(func(key site.Key, record any) {
			raw, err := json.Marshal(record)
			require.NoError(t, err)
			require.NotContains(t, all, key)
			all[key] = raw
		})
		all[site.Key{Kind: "something to come", ID: 1}] = json.RawMessage(`{}`)
		back, err := site.Assemble(all)
		require.NoError(t, err)
		require.Equal(t, r, back)
		for key := range all {
			if key.Kind == "something to come" {
				continue
			}
			was := all[key]
			all[key] = json.RawMessage(`[`)
			_, err := site.Assemble(all)
			require.ErrorContains(t, err, key.Kind, "the record is named")
			all[key] = was
		}
	})
	names := make([]string, len(site.Kinds))
	for i, k := range site.Kinds {
		names[i] = k.Name
	}
	require.True(t, slices.IsSorted(names))
}

package server

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strconv"
)

// page reads the limit and a numeric cursor.
func page(limit *int, cursor *string) (n int, after int64, err error) {
	n = 100
	if limit != nil {
		n = *limit
	}
	if n < 1 || n > 500 {
		return 0, 0, badRequest("limit must be from 1 to 500")
	}
	if cursor != nil && *cursor != "" {
		if after, err = strconv.ParseInt(*cursor, 10, 64); err != nil || after < 0 {
			return 0, 0, badRequest("the cursor %q is not one that a list gave", *cursor)
		}
	}
	return n, after, nil
}

// readCursor reads a cursor that cursorOf wrote; none leaves into as it is.
func readCursor(cursor *string, into any) error {
	if cursor == nil || *cursor == "" {
		return nil
	}
	data, err := base64.RawURLEncoding.DecodeString(*cursor)
	if err == nil {
		err = json.Unmarshal(data, into)
	}
	if err != nil {
		return badRequest("the cursor %q is not one that a list gave", *cursor)
	}
	return nil
}

// cursorOf is a place in a list, as a cursor.
func cursorOf(place any) *string {
	data, err := json.Marshal(place)
	if err != nil {
		return nil
	}
	return ptr(base64.RawURLEncoding.EncodeToString(data))
}

// listed makes a page of what was asked for with one more than limit: its items, and the cursor of the rest, nil at the end.
func listed[T, U any](all []T, limit int, cursor func(T) any, turn func(T) (U, error)) (items []U, next *string, err error) {
	if len(all) > limit {
		all = all[:limit]
		next = ptr(fmt.Sprint(cursor(all[limit-1])))
	}
	items = make([]U, 0, len(all))
	for _, x := range all {
		item, err := turn(x)
		if err != nil {
			return nil, nil, err
		}
		items = append(items, item)
	}
	return items, next, nil
}

// always is for what turns without trouble.
func always[T, U any](turn func(T) U) func(T) (U, error) {
	return func(x T) (U, error) { return turn(x), nil }
}

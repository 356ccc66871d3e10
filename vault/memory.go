package vault

import (
	"context"
	"sync"
	"time"
)

// A Memory is a Ring that lasts as long as the process: for tests and for work without records.
type Memory struct {
	mu   sync.Mutex
	keys []DataKey
}

// DataKeys implements Ring.
func (m *Memory) DataKeys(context.Context) ([]DataKey, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return append([]DataKey(nil), m.keys...), nil
}

// AddDataKey implements Ring.
func (m *Memory) AddDataKey(_ context.Context, k DataKey, first bool) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if first && len(m.keys) > 0 {
		return nil
	}
	k.ID, k.MadeAt = int32(len(m.keys)+1), time.Now()
	m.keys = append(m.keys, k)
	return nil
}

// Rewrap implements Ring.
func (m *Memory) Rewrap(_ context.Context, wrap func(DataKey) (DataKey, error)) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	fresh := append([]DataKey(nil), m.keys...)
	for i := range fresh {
		var err error
		if fresh[i], err = wrap(fresh[i]); err != nil {
			return err
		}
	}
	m.keys = fresh
	return nil
}

// Package cache keeps what is dear to make and cheap to keep: a few values by
// key, which never change. It is no store: what does not exist is made again.
//
//	plans := cache.New[int64, *Plan](16)
//	if p, ok := plans.Get(id); ok {
package cache

import "sync"

// Cache keeps up to a number of values. It may be used by many at once.
type Cache[K comparable, V any] struct {
	mu   sync.Mutex
	most int
	kept map[K]V
}

// New makes a cache that keeps at most so many values; then it begins anew.
func New[K comparable, V any](most int) *Cache[K, V] {
	return &Cache[K, V]{most: most, kept: map[K]V{}}
}

// Get gives a value that is kept.
func (c *Cache[K, V]) Get(key K) (value V, ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	value, ok = c.kept[key]
	return value, ok
}

// Put keeps a value.
func (c *Cache[K, V]) Put(key K, value V) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, had := c.kept[key]; !had && len(c.kept) >= c.most {
		clear(c.kept)
	}
	c.kept[key] = value
}

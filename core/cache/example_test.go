package cache_test

import (
	"fmt"

	"wladder/core/cache"
)

func ExampleCache() {
	squares := cache.New[int, int](2)
	for n := range 3 {
		squares.Put(n, n*n)
	}
	_, first := squares.Get(0) // it began anew at the third
	last, _ := squares.Get(2)
	fmt.Println(first, last)
	// Output: false 4
}

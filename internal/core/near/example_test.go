package near_test

import (
	"fmt"

	"tressik.example/internal/core/near"
)

func ExampleNames() {
	fmt.Println(near.Names("nigtlog", []string{"nightlog", "plate-archive"}))
	// Output: [nightlog]
}

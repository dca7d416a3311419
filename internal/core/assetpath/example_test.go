package assetpath_test

import (
	"fmt"

	"kettletarn/internal/core/assetpath"
)

func ExampleCheck() {
	for _, path := range []string{"levels/harbour.glb", "../harbour.glb", "levels/con.png", "levels/harbour.glb ", ".git/config"} {
		if bad := assetpath.Check(path); bad != nil {
			fmt.Printf("%q: %s\n", path, bad.Reason)
		} else {
			fmt.Printf("%q may be an asset\n", path)
		}
	}
	// Output:
	// "levels/harbour.glb" may be an asset
	// "../harbour.glb": path-outside
	// "levels/con.png": path-device
	// "levels/harbour.glb ": path-trailing
	// ".git/config": path-reserved
}

func ExampleFold() {
	fmt.Println(assetpath.Fold("Levels/HARBOUR.glb") == assetpath.Fold("levels/harbour.GLB"))
	// Output: true
}

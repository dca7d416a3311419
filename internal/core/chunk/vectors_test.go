package chunk

var vectors = []struct {
	zeros  bool
	digest string
	sizes  []int
}{
	{false, "4029a74e383dccc8b683e9f29fbf95a49ef56c18b68917d5e8b6baa2b42f750f",
		[]int{291863, 294912, 294912, 294912, 294912, 294912, 294912, 35817}},
	{true, "8ac83f8ce09d064b023ab3c15880b02f2686cd1817fd25915b8153316ee059f8", []int{1048576, 1048576}},
}

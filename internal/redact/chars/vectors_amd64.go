package chars

import "golang.org/x/sys/cpu"

// Vectors says whether the processor has what the kernels are written for. Tests turn them off.
var Vectors = cpu.X86.HasAVX2 && cpu.X86.HasBMI1 && cpu.X86.HasBMI2 // which come together

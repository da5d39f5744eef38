#include "textflag.h"

// func knownAVX2(row, keys *uint64, b *byte, words int, table *wordTable)
TEXT ·knownAVX2(SB), NOSPLIT, $0-40
	MOVQ row+0(FP), DI
	MOVQ keys+8(FP), R8
	MOVQ b+16(FP), SI
	MOVQ words+24(FP), CX
	MOVQ table+32(FP), BX
	MOVQ $0x9e3779b97f4a7c15, R15

word:
	MOVQ  (DI), AX
	TESTQ AX, AX
	JZ    next
	MOVQ  (R8), R9   // bytes of keys in the word before
	MOVQ  8(R8), R10 // and in this one
	ADDQ  R10, R10
	MOVQ  AX, R14    // the places that are left

place:
	TZCNTQ AX, DX

	// How many bytes of keys stand right before the place: those of this word and of the one before, in one.
	MOVQ   DX, R11
	NOTQ   R11
	SHRXQ  DX, R9, R12
	SHLXQ  R11, R10, R13
	ORQ    R13, R12
	NOTQ   R12
	BSRQ   R12, R12
	JZ     left      // all 64
	XORQ   $63, R12
	LEAQ   -1(R12), R13
	CMPQ   R13, $8
	JAE    left

	// A word of one to eight bytes, as one number.
	SHLQ  $3, R12
	NEGQ  R12
	MOVQ  -8(SI)(DX*1), R11
	SHRXQ R12, R11, R11
	MOVQ  R11, R12
	IMULQ R15, R12
	SHRQ  $54, R12
	CMPQ  R11, (BX)(R12*8)
	JNE   left
	BTRQ  DX, R14

left:
	BLSRQ AX, AX
	JNZ   place
	MOVQ  R14, (DI)

next:
	ADDQ $8, DI
	ADDQ $8, R8
	ADDQ $64, SI
	DECQ CX
	JNZ  word
	RET

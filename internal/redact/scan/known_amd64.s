#include "textflag.h"

// ONE writes the number of the lowest set bit of AX to off(DI) and clears it.
#define ONE(off) \
	TZCNTQ AX, R9;       \
	BLSRQ  AX, AX;       \
	ADDQ   R8, R9;       \
	MOVW   R9, off(DI)

// func setBitsBMI(list *uint16, row *uint64, words int) (n int)
TEXT ·setBitsBMI(SB), NOSPLIT, $0-32
	MOVQ list+0(FP), DI
	MOVQ row+8(FP), SI
	MOVQ words+16(FP), CX
	MOVQ DI, R10
	XORQ R8, R8 // the number of the first bit of the word

	// Most words have up to four bits, which are written without asking how many there are.
word:
	MOVQ    (SI), AX
	POPCNTQ AX, DX
	LEAQ    (DI)(DX*2), R11
	ONE(0)
	ONE(2)
	ONE(4)
	ONE(6)
	CMPQ    DX, $4
	JHI     more

next:
	MOVQ R11, DI
	ADDQ $8, SI
	ADDQ $64, R8
	DECQ CX
	JNZ  word
	SUBQ R10, DI
	SHRQ $1, DI
	MOVQ DI, n+24(FP)
	RET

more:
	ADDQ $8, DI
	ONE(0)
	TESTQ AX, AX
	JZ    next
	SUBQ  $6, DI
	JMP   more

// func unknownBMI(list *uint16, n int, keys *uint64, b *byte, table *wordTable, lengths *[512]byte) (left int)
TEXT ·unknownBMI(SB), NOSPLIT, $0-56
	MOVQ list+0(FP), SI
	MOVQ n+8(FP), CX
	MOVQ keys+16(FP), R8
	MOVQ b+24(FP), R9
	MOVQ table+32(FP), BX
	MOVQ lengths+40(FP), R10
	MOVQ $0x9e3779b97f4a7c15, R15
	MOVQ SI, DI
	LEAQ (SI)(CX*2), R14
	CMPQ SI, R14
	JEQ  done

place:
	MOVWLZX (SI), AX

	// Which of the nine bytes before it are of keys, and what that says of the length of the word.
	LEAL    55(AX), DX
	MOVL    DX, CX
	SHRL    $3, DX
	ANDL    $7, CX
	MOVWLZX (R8)(DX*1), DX
	SHRXL   CX, DX, DX
	ANDL    $511, DX
	MOVBLZX (R10)(DX*1), DX

	// The word, as one number.
	MOVQ    -8(R9)(AX*1), R11
	SHRXQ   DX, R11, R11
	MOVQ    R11, R12
	IMULQ   R15, R12
	SHRQ    $54, R12
	MOVW    AX, (DI)
	XORL    AX, AX
	CMPQ    R11, (BX)(R12*8)
	SETNE   AX
	SHRL    $7, DX
	ORL     DX, AX
	LEAQ    (DI)(AX*2), DI
	ADDQ    $2, SI
	CMPQ    SI, R14
	JNE     place

done:
	SUBQ list+0(FP), DI
	SHRQ $1, DI
	MOVQ DI, left+48(FP)
	RET

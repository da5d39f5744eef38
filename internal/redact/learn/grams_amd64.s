#include "textflag.h"

// Four bytes at each of four places, three apart or one after the other, for both halves of a vector.
DATA everyFourth<>+0(SB)/8, $0x0706050403020100
DATA everyFourth<>+8(SB)/8, $0x0f0e0d0c0b0a0908
GLOBL everyFourth<>(SB), RODATA|NOPTR, $16

DATA every<>+0(SB)/8, $0x0403020103020100
DATA every<>+8(SB)/8, $0x0605040305040302
GLOBL every<>(SB), RODATA|NOPTR, $16

DATA gramFactors<>+0(SB)/4, $0x9e3779b1
DATA gramFactors<>+4(SB)/4, $0x85ebca77
DATA gramFactors<>+8(SB)/4, $1
GLOBL gramFactors<>(SB), RODATA|NOPTR, $12

// LOOKUP puts the bits of one place into a lane of X.
#define LOOKUP(place, lane, X) \
	MOVL    (4*place)(SP), BX;   \
	VPINSRD $lane, (R8)(BX*4), X, X

// func gramsAVX2(dst *byte, b *byte, groups int, set *uint32, shift, stride int)
TEXT ·gramsAVX2(SB), NOSPLIT, $32-48
	MOVQ           dst+0(FP), DI
	MOVQ           b+8(FP), SI
	MOVQ           groups+16(FP), CX
	MOVQ           set+24(FP), R8
	VMOVQ          shift+32(FP), X13
	MOVQ           stride+40(FP), R9
	VBROADCASTI128 every<>(SB), Y10
	CMPQ           R9, $1
	JE             lay
	VBROADCASTI128 everyFourth<>(SB), Y10

lay:
	LEAQ         (R9*4), R10 // from one half of the vector to the other
	VPBROADCASTD gramFactors<>+0(SB), Y11
	VPBROADCASTD gramFactors<>+4(SB), Y12
	VPBROADCASTD gramFactors<>+8(SB), Y14
	VPXOR        Y9, Y9, Y9

group:
	VMOVDQU     (SI), X0
	VINSERTI128 $1, (SI)(R10*1), Y0, Y0
	VPSHUFB     Y10, Y0, Y0
	VPMULLD     Y11, Y0, Y1
	VPMULLD     Y12, Y0, Y2
	VPSRLD      X13, Y1, Y1
	VMOVDQU     Y1, 0(SP)

	// The three bits that have to be set.
	VPSRLD  $27, Y2, Y5
	VPSLLD  $5, Y2, Y6
	VPSRLD  $27, Y6, Y6
	VPSLLD  $10, Y2, Y7
	VPSRLD  $27, Y7, Y7
	VPSLLVD Y5, Y14, Y5
	VPSLLVD Y6, Y14, Y6
	VPSLLVD Y7, Y14, Y7
	VPOR    Y6, Y5, Y5
	VPOR    Y7, Y5, Y5

	// One load after the other: gathering them is slow on the many processors that must guard against its leaking.
	MOVL  0(SP), BX
	VMOVD (R8)(BX*4), X3
	LOOKUP(1, 1, X3)
	LOOKUP(2, 2, X3)
	LOOKUP(3, 3, X3)
	MOVL  16(SP), BX
	VMOVD (R8)(BX*4), X4
	LOOKUP(5, 1, X4)
	LOOKUP(6, 2, X4)
	LOOKUP(7, 3, X4)
	VINSERTI128 $1, X4, Y3, Y3
	VPANDN      Y5, Y3, Y3 // what is missing
	VPCMPEQD    Y9, Y3, Y3
	VMOVMSKPS   Y3, AX
	MOVB        AX, (DI)

	INCQ DI
	LEAQ (SI)(R10*2), SI
	DECQ CX
	JNZ  group
	VZEROUPPER
	RET

#include "textflag.h"

// Four bytes at each of four places, three apart or one after the other, for both halves of a vector.
DATA everyThird<>+0(SB)/8, $0x0605040303020100
DATA everyThird<>+8(SB)/8, $0x0c0b0a0909080706
GLOBL everyThird<>(SB), RODATA|NOPTR, $16

DATA every<>+0(SB)/8, $0x0403020103020100
DATA every<>+8(SB)/8, $0x0605040305040302
GLOBL every<>(SB), RODATA|NOPTR, $16

DATA gramFactors<>+0(SB)/4, $0x9e3779b1
DATA gramFactors<>+4(SB)/4, $0x85ebca77
DATA gramFactors<>+8(SB)/4, $1
GLOBL gramFactors<>(SB), RODATA|NOPTR, $12

// LOOKUP puts into AX from below whether the bits of one place are all set.
#define LOOKUP(lane) \
	MOVL  lane(SP), BX;         \
	MOVL  (R8)(BX*4), BX;       \
	ANDNL (32+lane)(SP), BX, BX; \
	CMPL  BX, $1;               \
	ADCL  AX, AX

// func gramsAVX2(dst *byte, b *byte, groups int, set *uint32, shift, stride int)
TEXT ·gramsAVX2(SB), NOSPLIT, $64-48
	MOVQ           dst+0(FP), DI
	MOVQ           b+8(FP), SI
	MOVQ           groups+16(FP), CX
	MOVQ           set+24(FP), R8
	VMOVQ          shift+32(FP), X13
	MOVQ           stride+40(FP), R9
	VBROADCASTI128 every<>(SB), Y10
	CMPQ           R9, $1
	JE             lay
	VBROADCASTI128 everyThird<>(SB), Y10

lay:
	LEAQ         (R9*4), R10 // from one half of the vector to the other
	VPBROADCASTD gramFactors<>+0(SB), Y11
	VPBROADCASTD gramFactors<>+4(SB), Y12
	VPBROADCASTD gramFactors<>+8(SB), Y14

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
	VMOVDQU Y5, 32(SP)

	// One load after the other: gathering them is slow on the many processors that must guard against its leaking.
	XORL AX, AX
	LOOKUP(28)
	LOOKUP(24)
	LOOKUP(20)
	LOOKUP(16)
	LOOKUP(12)
	LOOKUP(8)
	LOOKUP(4)
	LOOKUP(0)
	MOVB AX, (DI)

	INCQ DI
	LEAQ (SI)(R10*2), SI
	DECQ CX
	JNZ  group
	VZEROUPPER
	RET

#include "go_asm.h"
#include "textflag.h"

DATA lowNibbles<>+0(SB)/8, $0x0f0f0f0f0f0f0f0f
GLOBL lowNibbles<>(SB), RODATA|NOPTR, $8

// EVERY makes 32 bytes of eight that are the same.
#define EVERY(name, eight) \
	DATA name<>+0(SB)/8, $eight;  \
	DATA name<>+8(SB)/8, $eight;  \
	DATA name<>+16(SB)/8, $eight; \
	DATA name<>+24(SB)/8, $eight; \
	GLOBL name<>(SB), RODATA|NOPTR, $32

EVERY(lowestTwo, 0x0303030303030303)
EVERY(colons, 0x3a3a3a3a3a3a3a3a)
EVERY(equals, 0x3d3d3d3d3d3d3d3d)
EVERY(dashes, 0x2d2d2d2d2d2d2d2d)
EVERY(dots, 0x2e2e2e2e2e2e2e2e)
EVERY(commas, 0x2c2c2c2c2c2c2c2c)
EVERY(blanks, 0x2020202020202020)

// NIBBLES puts the low halves of the 64 bytes at off(SI) into Y0 and Y2, their high halves into Y1 and Y3.
#define NIBBLES(off) \
	VMOVDQU off(SI), Y0;      \
	VMOVDQU off+32(SI), Y2;   \
	VPSRLW  $4, Y0, Y1;       \
	VPSRLW  $4, Y2, Y3;       \
	VPAND   Y15, Y0, Y0;      \
	VPAND   Y15, Y1, Y1;      \
	VPAND   Y15, Y2, Y2;      \
	VPAND   Y15, Y3, Y3

// BUCKETS narrows the buckets in acc0 and acc1 by the two tables at tab(DX).
#define BUCKETS(tab, acc0, acc1) \
	VMOVDQU tab(DX), Y4;      \
	VPSHUFB Y0, Y4, Y5;       \
	VPSHUFB Y2, Y4, Y6;       \
	VMOVDQU tab+32(DX), Y4;   \
	VPSHUFB Y1, Y4, Y7;       \
	VPAND   Y7, Y5, Y5;       \
	VPSHUFB Y3, Y4, Y7;       \
	VPAND   Y7, Y6, Y6;       \
	VPAND   Y5, acc0, acc0;   \
	VPAND   Y6, acc1, acc1

// func placesAVX2(m *Marks, b *byte, words int, t *placeTables)
TEXT ·placesAVX2(SB), NOSPLIT, $0-32
	MOVQ         m+0(FP), DI
	MOVQ         b+8(FP), SI
	MOVQ         words+16(FP), CX
	MOVQ         t+24(FP), DX
	VPBROADCASTQ lowNibbles<>(SB), Y15
	VPXOR        Y14, Y14, Y14
	VMOVDQU      blanks<>(SB), Y12

places:
	VPCMPEQB Y10, Y10, Y10
	VMOVDQA  Y10, Y11

	// Spaces look behind only, the others at what tells them best.
	VPCMPEQB (SI), Y12, Y8
	VPCMPEQB 32(SI), Y12, Y9
	NIBBLES(-3)
	BUCKETS(0, Y8, Y9)
	NIBBLES(-2)
	BUCKETS(64, Y8, Y9)
	BUCKETS(192, Y10, Y11)
	NIBBLES(-1)
	BUCKETS(128, Y8, Y9)
	BUCKETS(256, Y10, Y11)
	NIBBLES(0)
	BUCKETS(320, Y10, Y11)
	NIBBLES(1)
	BUCKETS(384, Y10, Y11)
	NIBBLES(3)
	BUCKETS(448, Y10, Y11)

	VPCMPEQB  Y14, Y8, Y8
	VPCMPEQB  Y14, Y9, Y9
	VPMOVMSKB Y8, AX
	VPMOVMSKB Y9, BX
	SHLQ      $32, BX
	ORQ       BX, AX
	NOTQ      AX
	MOVQ      AX, Marks_spaces(DI)
	VPCMPEQB  Y14, Y10, Y10
	VPCMPEQB  Y14, Y11, Y11
	VPMOVMSKB Y10, AX
	VPMOVMSKB Y11, BX
	SHLQ      $32, BX
	ORQ       BX, AX
	NOTQ      AX
	MOVQ      AX, Marks_others(DI)
	ADDQ      $8, DI
	ADDQ      $64, SI
	DECQ      CX
	JNZ       places
	VZEROUPPER
	RET

// The words of a chunk begin with the second one of each row.
#define CLASS(class) (Marks_classes + 8 + class*const_classRowSize)(DI)

// PAIR turns the highest bits of 64 bytes into the next word of a class.
#define PAIR(half0, half1, class) \
	VPMOVMSKB half0, AX;      \
	VPMOVMSKB half1, BX;      \
	SHLQ      $32, BX;        \
	ORQ       BX, AX;         \
	MOVQ      AX, CLASS(class)

// FILLED makes that of which of 64 bytes are not zero.
#define FILLED(half0, half1, class) \
	VPCMPEQB  Y14, half0, Y4; \
	VPCMPEQB  Y14, half1, Y5; \
	VPMOVMSKB Y4, AX;         \
	VPMOVMSKB Y5, BX;         \
	SHLQ      $32, BX;        \
	ORQ       BX, AX;         \
	NOTQ      AX;             \
	MOVQ      AX, CLASS(class)

// SAME makes that of which of the 64 bytes in Y0 and Y2 are a sign.
#define SAME(sign, class) \
	VPCMPEQB sign<>(SB), Y0, Y4; \
	VPCMPEQB sign<>(SB), Y2, Y5; \
	PAIR(Y4, Y5, class)

// func classesAVX2(m *Marks, b *byte, words int, t *[4]nibbles)
TEXT ·classesAVX2(SB), NOSPLIT, $0-32
	MOVQ         m+0(FP), DI
	MOVQ         b+8(FP), SI
	MOVQ         words+16(FP), CX
	MOVQ         t+24(FP), DX
	VPBROADCASTQ lowNibbles<>(SB), Y15
	VPXOR        Y14, Y14, Y14

classes:
	VPCMPEQB Y8, Y8, Y8
	VMOVDQA  Y8, Y9
	VMOVDQA  Y8, Y10
	VMOVDQA  Y8, Y11
	VMOVDQA  Y8, Y12
	VMOVDQA  Y8, Y13
	NIBBLES(0)
	BUCKETS(0, Y8, Y9)
	BUCKETS(64, Y10, Y11)
	BUCKETS(128, Y12, Y13)

	// Separators and other signs are in any class of theirs.
	FILLED(Y10, Y11, const_separatorClass)
	FILLED(Y12, Y13, const_signClass)

	// So are hexadecimal digits, in bits 0 and 1, and what begins texts, in bits 2 and 3.
	VPCMPEQB Y10, Y10, Y10
	VMOVDQA  Y10, Y11
	BUCKETS(192, Y10, Y11)
	VPAND    lowestTwo<>(SB), Y10, Y12
	VPAND    lowestTwo<>(SB), Y11, Y13
	FILLED(Y12, Y13, const_hexClass)
	VPANDN   Y10, Y12, Y10
	VPANDN   Y11, Y13, Y11
	FILLED(Y10, Y11, const_quoteClass)

	// Bytes of keys are in any class of the first tables; digits in that of bit 6, which a shift puts where the mask is
	// taken from; lowestTwo in those of bits 0 and 1.
	FILLED(Y8, Y9, const_keyClass)
	VPSLLW $1, Y8, Y4
	VPSLLW $1, Y9, Y5
	PAIR(Y4, Y5, const_digitClass)
	VPAND  lowestTwo<>(SB), Y8, Y8
	VPAND  lowestTwo<>(SB), Y9, Y9
	FILLED(Y8, Y9, const_capitalClass)

	VMOVDQU (SI), Y0
	VMOVDQU 32(SI), Y2
	SAME(colons, const_colonClass)
	SAME(equals, const_equalsClass)
	SAME(dashes, const_dashClass)
	SAME(dots, const_dotClass)
	SAME(commas, const_commaClass)

	ADDQ $8, DI
	ADDQ $64, SI
	DECQ CX
	JNZ  classes
	VZEROUPPER
	RET

#include "go_asm.h"
#include "textflag.h"

// The four words of a class that are looked at, those one before them, and those one behind them.
#define NOW(class) (Marks_classes + 8 + class*const_classRowSize)(DI)
#define BEFORE(class) (Marks_classes + class*const_classRowSize)(DI)
#define NEXT(class) (Marks_classes + 16 + class*const_classRowSize)(DI)
#define SIFTED(row) (Marks_sifted + row*const_chunkRowSize)(DI)

// AHEAD gives the bits n places on, AGO those n places before; the neighbouring words are shifted by rest = 64-n. They use Y15.
#define AHEAD(n, rest, now, next, out) \
	VPSLLQ $rest, next, Y15; \
	VPSRLQ $n, now, out;     \
	VPOR   Y15, out, out

#define AGO(n, rest, now, before, out) \
	VPSRLQ $rest, before, Y15; \
	VPSLLQ $n, now, out;       \
	VPOR   Y15, out, out

// FOUR narrows the words in out, which begin as a copy of now, to the beginnings of four bits in a row, and those in outNext
// likewise, as far as they are known. It uses Y13.
#define FOUR(now, next, out, outNext) \
	AHEAD(1, 63, now, next, out);      \
	VPAND  now, out, out;              \
	AHEAD(2, 62, now, next, Y13);      \
	VPAND  Y13, out, out;              \
	AHEAD(3, 61, now, next, Y13);      \
	VPAND  Y13, out, out;              \
	VPSRLQ $1, next, outNext;          \
	VPAND  next, outNext, outNext;     \
	VPSRLQ $2, next, Y13;              \
	VPAND  Y13, outNext, outNext;      \
	VPSRLQ $3, next, Y13;              \
	VPAND  Y13, outNext, outNext

// func siftAVX2(m *Marks, groups int, fractions uint64) (hot bool)
TEXT ·siftAVX2(SB), NOSPLIT, $0-25
	MOVQ         m+0(FP), DI
	MOVQ         groups+8(FP), CX
	VPBROADCASTQ fractions+16(FP), Y14
	VPXOR        Y12, Y12, Y12 // first colons of the words before, of which the first lane counts
	VPXOR        Y11, Y11, Y11 // all hot places

words:
	VMOVDQU NOW(const_digitClass), Y0
	VMOVDQU NEXT(const_digitClass), Y1
	VMOVDQU BEFORE(const_digitClass), Y2
	AGO(1, 63, Y0, Y2, Y3)     // a digit before
	AHEAD(1, 63, Y0, Y1, Y4)   // a digit behind
	VPAND   Y3, Y4, Y5         // both
	AGO(2, 62, Y0, Y2, Y2)     // a digit two before

	// The first colon of a time with seconds, of which isTime is true.
	VMOVDQU NOW(const_colonClass), Y6
	VMOVDQU NEXT(const_colonClass), Y7
	VMOVDQU BEFORE(const_colonClass), Y8
	AGO(3, 61, Y6, Y8, Y8)     // a colon three before
	VPAND   Y6, Y5, Y9
	VPAND   Y2, Y9, Y9
	AHEAD(3, 61, Y6, Y7, Y10)
	VPAND   Y10, Y9, Y9
	AHEAD(2, 62, Y0, Y1, Y10)
	VPAND   Y10, Y9, Y9
	AHEAD(4, 60, Y0, Y1, Y10)
	VPAND   Y10, Y9, Y9
	AHEAD(5, 59, Y0, Y1, Y10)
	VPAND   Y10, Y9, Y9
	VPANDN  Y9, Y8, Y9
	VMOVDQU NOW(const_hexClass), Y10
	VPOR    Y10, Y6, Y6
	VPOR    NEXT(const_hexClass), Y7, Y7
	AHEAD(6, 58, Y6, Y7, Y6)
	VPANDN  Y9, Y6, Y9
	VMOVDQU BEFORE(const_hexClass), Y7
	AGO(3, 61, Y10, Y7, Y10)   // a hexadecimal digit three before
	VPANDN  Y9, Y10, Y9

	// With the second colons, three places on.
	VPERMQ   $0x93, Y9, Y7     // each word in the place of the next one
	VPBLENDD $3, Y12, Y7, Y6   // and the last one of the round before in the first place
	VMOVDQA  Y7, Y12
	AGO(3, 61, Y9, Y6, Y6)
	VPOR     Y6, Y9, Y9

	// Separators that are not of times.
	VMOVDQU NOW(const_separatorClass), Y6
	VMOVDQU NOW(const_equalsClass), Y7
	VPANDN  Y6, Y7, Y6
	VPANDN  Y6, Y9, Y6
	VMOVDQU Y6, SIFTED(const_separatorSifted)

	// Dashes between digits that are not the first of a hardware address belong to dates.
	VMOVDQU Marks_others(DI), Y6
	VPAND   NOW(const_signClass), Y6, Y6
	VMOVDQU NOW(const_dashClass), Y7
	VMOVDQU NEXT(const_dashClass), Y13
	AHEAD(3, 61, Y7, Y13, Y9)
	VPANDN  Y9, Y10, Y9
	VPANDN  Y5, Y9, Y9
	VPANDN  Y6, Y9, Y9
	VPANDN  Y6, Y7, Y6
	VPAND   Y7, Y9, Y9

	// Those between bytes of keys that are no dashes need three more of these behind them: gate-1 is no token.
	VMOVDQU NOW(const_keyClass), Y3
	VMOVDQU NEXT(const_keyClass), Y4
	VPANDN  Y4, Y13, Y13
	VPANDN  Y3, Y7, Y10
	AHEAD(1, 63, Y10, Y13, Y13)
	VMOVDQU BEFORE(const_dashClass), Y7
	VPANDN  BEFORE(const_keyClass), Y7, Y7
	AGO(1, 63, Y10, Y7, Y10)
	VPAND   Y10, Y13, Y10      // such a byte before and behind
	AHEAD(2, 62, Y3, Y4, Y7)
	AHEAD(3, 61, Y3, Y4, Y13)
	VPAND   Y13, Y7, Y7
	AHEAD(4, 60, Y3, Y4, Y13)
	VPAND   Y13, Y7, Y7
	VPANDN  Y10, Y7, Y7
	VPANDN  Y9, Y7, Y9
	VMOVDQU Y9, SIFTED(const_dashSifted)

	// Dots between digits that are not of an address, a hardware address or a token that ends in two digits are in fractions.
	VMOVDQU NOW(const_dotClass), Y7
	VMOVDQU NEXT(const_dotClass), Y9
	AHEAD(2, 62, Y7, Y9, Y10)
	AHEAD(3, 61, Y7, Y9, Y13)
	VPOR    Y13, Y10, Y10
	AHEAD(4, 60, Y7, Y9, Y13)
	VPOR    Y13, Y10, Y10
	AHEAD(5, 59, Y7, Y9, Y13)
	VPOR    Y13, Y10, Y10
	VPANDN  Y5, Y10, Y10       // no dot near, and digits around
	VPCMPEQD Y9, Y9, Y9
	VPXOR   Y9, Y2, Y9         // no digit two before
	VPOR    Y8, Y9, Y9
	VMOVDQU BEFORE(const_digitClass), Y13
	AGO(3, 61, Y0, Y13, Y13)   // or one three before, too
	VPOR    Y13, Y9, Y9
	VPAND   Y9, Y10, Y10
	VPAND   Y14, Y10, Y10
	VPANDN  Y6, Y10, Y9
	VPAND   Y7, Y9, Y9
	VMOVDQU Y9, SIFTED(const_dotSifted)
	VPANDN  Y6, Y7, Y6
	VMOVDQU Y6, SIFTED(const_otherSifted)

	// The beginnings of what may be a card: four digits, four more behind a sign or none, and so on. Y0 and Y1 are the digits.
	FOUR(Y0, Y1, Y2, Y3)
	AHEAD(8, 56, Y2, Y3, Y5)
	AHEAD(9, 55, Y2, Y3, Y6)
	VPOR    Y6, Y5, Y5
	AHEAD(10, 54, Y2, Y3, Y6)
	VPOR    Y6, Y5, Y5
	AHEAD(5, 59, Y2, Y3, Y6)
	AHEAD(7, 57, Y2, Y3, Y7)
	VPAND   Y6, Y7, Y7
	AHEAD(12, 52, Y0, Y1, Y8)
	VPAND   Y8, Y7, Y7         // 4-6-3 and longer
	VPOR    Y7, Y5, Y5
	AHEAD(4, 60, Y2, Y3, Y7)
	VPOR    Y7, Y6, Y6
	VPAND   Y6, Y5, Y5
	VPAND   Y2, Y5, Y5
	VMOVDQU Y5, SIFTED(const_cardSifted)
	VPOR    Y5, Y11, Y11

	// The beginnings of what may be an IBAN: two capitals, two digits, and eight or more of both, in one piece or in groups of
	// four.
	VMOVDQU NOW(const_capitalClass), Y2
	VMOVDQU NEXT(const_capitalClass), Y3
	AHEAD(1, 63, Y2, Y3, Y5)
	VPAND   Y2, Y5, Y5
	AHEAD(2, 62, Y0, Y1, Y6)
	VPAND   Y6, Y5, Y5
	AHEAD(3, 61, Y0, Y1, Y6)
	VPAND   Y6, Y5, Y5
	VPOR    Y0, Y2, Y2
	VPOR    Y1, Y3, Y3
	FOUR(Y2, Y3, Y0, Y1)
	AHEAD(4, 60, Y0, Y1, Y6)
	AHEAD(5, 59, Y0, Y1, Y7)
	VPOR    Y7, Y6, Y6
	VPAND   Y6, Y5, Y5
	AHEAD(8, 56, Y0, Y1, Y6)
	AHEAD(10, 54, Y0, Y1, Y7)
	VPOR    Y7, Y6, Y6
	VPAND   Y6, Y5, Y5
	VMOVDQU Y5, SIFTED(const_accountSifted)
	VPOR    Y5, Y11, Y11

	ADDQ $32, DI
	DECQ CX
	JNZ  words

	VPTEST Y11, Y11
	SETNE  hot+24(FP)
	VZEROUPPER
	RET

# Two disks that change places: stays in memory while what was started runs, at the start of a segment of its own. The firmware's first
# disk and another answer to each other's number; what a call says of numbers of disks (08h, 15h) stays as it is.

    .section .rodata.swap, "a"
    .globl swap
    .globl swap_other
    .globl swap_old
    .globl swap_end
    .code16
swap:
    cmpb $0x80, %dl
    je 1f
    cmpb %cs:(swap_other - swap), %dl
    je 2f
    ljmpw *%cs:(swap_old - swap)
1:  movb %cs:(swap_other - swap), %dl
    jmp 3f
2:  movb $0x80, %dl
3:  pushw %ax
    pushfw
    lcallw *%cs:(swap_old - swap)
    pushw %bp
    movw %sp, %bp
    pushfw
    popw 8(%bp)                 # the flags that the caller gets back
    cmpb $0x08, 3(%bp)          # AH as it was asked
    je 4f
    cmpb $0x15, 3(%bp)
    je 4f
    cmpb $0x80, %dl
    movb $0x80, %dl
    jne 4f
    movb %cs:(swap_other - swap), %dl
4:  popw %bp
    addw $2, %sp
    iretw
swap_other:
    .byte 0
swap_old:
    .long 0
swap_end:
    .code32

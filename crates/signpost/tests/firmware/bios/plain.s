    .section .rodata.bios_plain, "a"
    .globl plain_start, plain_last
    .code16
plain_start:
    cli
    xorw %ax, %ax
    movw %ax, %ss
    movw $0x7c00, %sp
    movw %ax, %ds
    movw %ax, %es
    movw %sp, %si
    movw $0x0600, %di
    movw $0x0100, %cx
    cld
    rep movsw
    ljmp $0, $(0x0600 + plain_moved - plain_start)
plain_moved:
    sti
    movw $0x07be, %si
    movb $4, %cl
1:  testb $0x80, (%si)
    jnz plain_found
    addw $16, %si
    loop 1b
    movw $(0x0600 + plain_none - plain_start), %si
    jmp plain_say
plain_found:
    movw %si, %bp
    pushl $0
    pushl 8(%si)
    pushw %es
    pushw $0x7c00
    pushw $1
    pushw $16
    movw %sp, %si
    movb $0x42, %ah
    int $0x13
    leaw 16(%esp), %sp
    jnc plain_read
    movb 1(%bp), %dh
    movw 2(%bp), %cx
    movw $0x7c00, %bx
    movw $0x0201, %ax
    int $0x13
    jc plain_unread
plain_read:
    cmpw $0xaa55, 0x7dfe
    jne plain_unfit
    movw %bp, %si
    ljmp $0, $0x7c00
plain_unread:
    movw $(0x0600 + plain_cannot - plain_start), %si
    jmp plain_say
plain_unfit:
    movw $(0x0600 + plain_nothing - plain_start), %si
plain_say:
    lodsb
    testb %al, %al
    jz plain_wait
    movb $0x0e, %ah
    movw $0x0007, %bx
    int $0x10
    jmp plain_say
plain_wait:
    movb $0, %ah
    int $0x16
    int $0x18
plain_halt:
    hlt
    jmp plain_halt
plain_none:
    .asciz "No partition of this disk is active.\r\n"
plain_cannot:
    .asciz "The active partition cannot be read.\r\n"
plain_nothing:
    .asciz "The active partition has no boot sector.\r\n"
plain_last:
    .code64
    .text

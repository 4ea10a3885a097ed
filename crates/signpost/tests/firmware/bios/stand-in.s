    .section .rodata.bios_stand_in, "a"
    .globl stand_in_start, stand_in_last
    .code16
stand_in_start:
    jmp stand_in_code
    nop
    .org 0x5a
stand_in_code:
    xorw %ax, %ax
    movw %ax, %es
    movb %es:4(%si), %bl
    movw %ax, %ds
    cli
    movw %ax, %ss
    movw $0x7c00, %sp
    sti
    cld
    movb %bl, %ch
    movb %dl, %cl
    movw $(0x7c00 + stand_in_title - stand_in_start), %si
    call stand_in_say
    movw $(0x7c00 + stand_in_drive - stand_in_start), %si
    call stand_in_say
    movb %cl, %al
    call stand_in_byte
    movw $(0x7c00 + stand_in_type - stand_in_start), %si
    call stand_in_say
    movb %ch, %al
    call stand_in_byte
    movw $(0x7c00 + stand_in_end - stand_in_start), %si
    call stand_in_say
stand_in_halt:
    sti
    hlt
    jmp stand_in_halt
stand_in_byte:
    pushw %ax
    shrb $4, %al
    call stand_in_digit
    popw %ax
    andb $15, %al
stand_in_digit:
    cmpb $10, %al
    sbbb $0x69, %al
    das
    jmp stand_in_put
stand_in_say:
    lodsb
    testb %al, %al
    jz stand_in_done
    call stand_in_put
    jmp stand_in_say
stand_in_put:
    pushw %cx
    movb $0x0e, %ah
    movw $7, %bx
    int $0x10
    popw %cx
stand_in_done:
    ret
stand_in_drive:
    .asciz ", drive "
stand_in_type:
    .asciz ", type "
stand_in_end:
    .asciz "\r\n"
    .org 0x100
stand_in_title:
stand_in_last:
    .code64
    .text

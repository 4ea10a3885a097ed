# The head of a copy, and the stage behind it: it opens the memory above 1 MiB, goes to 32 bits, unpacks the program there and runs
# it, with the drive and the place of the copy's number in the first sector in %ebx and %esi.

    .section .head, "awx"
    .globl head
head:
    .ascii "SIGNPOST"
    .long 0                     # CRC-32 of all that follows
    .word 1                     # format
    .word 0                     # segment behind the copy, where the first sector has put it
    .long 0                     # where what is packed begins, in bytes from here
    .long 0                     # bytes of it
    .long 0                     # bytes unpacked
    .long 0
    .org 32

    .code16
    .globl stage
stage:
    cli
    xorw %ax, %ax
    movw %ax, %ds
    movw %ax, %es
    movw %ax, %ss
    movw $0x7000, %sp
    movw $0xffff, %ax
    movw %ax, %fs
    sti
    pushw %dx
    pushw %di
    call is_open
    jne open
    movw $0x2401, %ax
    int $0x15
    call is_open
    jne open
    inb $0x92, %al
    orb $2, %al
    andb $0xfe, %al
    outb %al, $0x92
    call is_open
    jne open
    call keyboard_ready
    movb $0xd1, %al
    outb %al, $0x64
    call keyboard_ready
    movb $0xdf, %al
    outb %al, $0x60
    call keyboard_ready
open:
    popw %di
    popw %dx
    cli
    lgdtl table_register
    movl %cr0, %eax
    orb $1, %al
    movl %eax, %cr0
    ljmp $8, $protected

# Whether an address above 1 MiB is another than the one below it: not zero, where it is.
is_open:
    movw $50, %cx
1:  incw %fs:0x510
    movw %fs:0x510, %ax
    cmpw %ax, 0x500
    jne 2f
    loop 1b
2:  ret

keyboard_ready:
    inb $0x64, %al
    testb $2, %al
    jnz keyboard_ready
    ret

    .code32
protected:
    movw $16, %ax
    movw %ax, %ds
    movw %ax, %es
    movw %ax, %fs
    movw %ax, %gs
    movw %ax, %ss
    movl $0x90000, %esp
    movzbl %dl, %ebx
    movzwl %di, %esi
    call unpack
    testl %eax, %eax
    jz 1f
    movl $0x100000, %eax
    jmp *%eax
    # Memory does not hold what was put into it.
1:  movl $0x4f554f55, 0xb8000
2:  hlt
    jmp 2b

    .align 8
table:
    .quad 0
    .quad 0x00cf9b000000ffff
    .quad 0x00cf93000000ffff
table_register:
    .word table_register - table - 1
    .long table

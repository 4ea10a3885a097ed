# A first sector that reads 32 MiB to where an initrd lies, by the firmware's bare calls, 64 KiB at a time, and says on the serial line
# when it begins and when it is done. The firmware reads below 1 MiB alone (INT 13h, 42h), and moves that up by a call of its own
# (INT 15h, 87h).

    .section .rodata.bench_reads, "a"
    .globl bench_reads, bench_reads_end
    .set ORIGIN, 0x7c00
    .set PACKET, 0x0600
    .set MOVE, 0x0620           # six descriptors: source and destination are the third and the fourth
    .code16
bench_reads:
    xorl %eax, %eax
    movw %ax, %ds
    movw %ax, %es
    movw %ax, %ss
    movw $ORIGIN, %sp
    sti
    cld
    movw %dx, %bp
    movw $MOVE, %di
    movw $24, %cx
    rep stosw
    movw $0xffff, MOVE + 16
    movb $1, MOVE + 20
    movb $0x93, MOVE + 21
    movw $0xffff, MOVE + 24
    movb $0x93, MOVE + 29
    movl $0x4000000, %edi       # 64 MiB
    movl $0x800010, PACKET      # bytes of the packet; sectors
    movl $0x10000000, PACKET + 4
    movl $2048, PACKET + 8      # the first sector
    movl $0, PACKET + 12
    movw $512, %bx
    movw $(begins - bench_reads + ORIGIN), %si
    callw say
1:  movw $PACKET, %si
    movw %bp, %dx
    movb $0x42, %ah
    int $0x13
    jc wait
    movl %edi, %eax
    movw %ax, MOVE + 26
    shrl $16, %eax
    movb %al, MOVE + 28
    movb %ah, MOVE + 31
    movw $MOVE, %si
    movw $0x8000, %cx           # words
    movb $0x87, %ah
    int $0x15
    jc wait
    addl $0x10000, %edi
    addl $128, PACKET + 8
    decw %bx
    jnz 1b
    movw $(ends - bench_reads + ORIGIN), %si
    callw say
wait:
    hlt
    jmp wait
say:
    lodsb
    testb %al, %al
    jz 2f
    movw $0x3f8, %dx
    outb %al, %dx
    jmp say
2:  retw
begins:
    .asciz "READING."
ends:
    .asciz "READ."
bench_reads_end:
    .code64
    .text

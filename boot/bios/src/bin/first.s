# A disk's first sector. It moves itself to 0x600, loads one of the two copies of the program to 0x8000, and runs it if its checksum
# is right. Where neither counts it starts the active partition, as plain code would.
#
# On the screen and the first serial line: R, a copy cannot be read; M, none lies there; C, its checksum is wrong; A, no partition is
# active; S, the active one's boot sector cannot be read or has no mark. Behind A and S it waits for a key and gives back to the
# firmware.

    .set BASE, 0x600
    .set DRIVE, 0x7000          # the byte above the stack
    .set LOAD, 0x800            # segment of a copy
    .set PORTION, 32            # sectors that are read at once
    .set LAST_SEGMENT, 0x8000   # no copy goes further

    .section .first, "awx"
    .code16
    .globl first_sector
first_sector:
    cli
    xorw %ax, %ax
    movw %ax, %ss
    movw $DRIVE, %sp
    movw %ax, %ds
    movw %ax, %es
    movw $0x7c00, %si
    movw $BASE, %di
    movw $256, %cx
    cld
    rep movsw
    ljmp $0, $(moved - first_sector + BASE)
moved:
    sti
    movb %dl, DRIVE
    movw $(copies - first_sector + BASE), %di

next_copy:
    movl (%di), %ebx
    movw $LOAD, %si
load:
    movw %si, %es
    movw $PORTION, %cx
    call read
    movb $'R', %al
    jc failed
    cmpl $0x4e474953, LOAD << 4
    movb $'M', %al
    jne failed
    addl $PORTION, %ebx
    addw $(PORTION << 5), %si
    cmpw $LAST_SEGMENT, %si
    ja failed
    cmpw (LOAD << 4) + 14, %si
    jb load

    # CRC-32 of what stands behind the field that holds it.
    movw $LOAD, %bx
    orl $-1, %eax
    movw $12, %si
segment:
    movw %bx, %ds
byte:
    xorb (%si), %al
    incw %si
    movw $8, %cx
bit:
    shrl $1, %eax
    jnc 1f
    xorl $0xedb88320, %eax
1:  loop bit
    cmpw $512, %si
    jb byte
    xorw %si, %si
    addw $32, %bx
    movw %cx, %ds
    cmpw (LOAD << 4) + 14, %bx
    jb segment
    notl %eax
    cmpl %eax, (LOAD << 4) + 8
    movb $'C', %al
    jne failed
    ljmp $0, $((LOAD << 4) + 32)

failed:
    call say
    addw $4, %di
    cmpw $(copies - first_sector + BASE + 8), %di
    jb next_copy

    movw $(BASE + 446), %si
    movw $4, %cx
1:  testb $0x80, (%si)
    jnz active
    addw $16, %si
    loop 1b
    movb $'A', %al
    jmp stop
active:
    movl 8(%si), %ebx
    movw $0x7c0, %ax
    movw %ax, %es
    movw $1, %cx
    call read
    movb $'S', %al
    jc stop
    cmpw $0xaa55, 0x7c00 + 510
    jne stop
    movw $0x7c00, %sp
    ljmp $0, $0x7c00
stop:
    call say
    movb $0, %ah
    int $0x16
    int $0x18
1:  hlt
    jmp 1b

# Reads %cx sectors from %ebx on to %es:0; carry where that fails. By sector number, or else by cylinder, head and sector, where
# the firmware may say that a track has no sectors.
read:
    pushaw
    pushl $0
    pushl %ebx
    pushw %es
    pushw $0
    pushw %cx
    pushw $16
    movw %sp, %si
    movb $0x42, %ah
    int $0x13
    popaw
    popaw
    jnc 9f
    pushaw
    pushw %es
    movl %ebx, %ebp
    movw %cx, %si
    movb $8, %ah
    int $0x13
    popw %es
    pushw %es
    jc 8f
    andw $63, %cx
    cmpw $1, %cx
    jc 8f
    movzbl %dh, %edi
    incw %di
    movzwl %cx, %ecx
each:
    movl %ebp, %eax
    xorl %edx, %edx
    divl %ecx
    movw %dx, %bx
    incw %bx                    # the sector, from 1
    xorl %edx, %edx
    divl %edi                   # cylinder, head
    pushw %cx
    movb %al, %ch
    movb %ah, %cl
    shlb $6, %cl
    orb %bl, %cl
    movb %dl, %dh
    movb DRIVE, %dl
    xorw %bx, %bx
    movw $0x201, %ax
    int $0x13
    popw %cx
    jc 8f
    movw %es, %ax
    addw $32, %ax
    movw %ax, %es
    incl %ebp
    decw %si
    jnz each
8:  popw %es
    popaw
9:  ret

say:
    pushaw
    movw $7, %bx
    movb $0xe, %ah
    pushw %ax
    int $0x10
    popw %ax
    movb $1, %ah
    xorw %dx, %dx
    int $0x14
    popaw
    ret

    # What tells it from others, and the first sectors of the two copies, which the desk fills in.
    .org 424
    .ascii "SIGNPOST"
    .globl copies
copies:
    .long 0, 0
    .org 512

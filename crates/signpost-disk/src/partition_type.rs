//! GPT partition types by their GUID (UEFI 2.10, table 5.7; the Discoverable Partitions specification;
//! and those that systems' vendors publish).

use uguid::{Guid, guid};

/// An ESP.
pub const EFI_SYSTEM: Guid = guid!("c12a7328-f81f-11d2-ba4b-00a0c93ec93b");
/// Linux data, the type that most tools give.
pub const LINUX_DATA: Guid = guid!("0fc63daf-8483-4772-8e79-3d69d8477de4");
/// Data of DOS and its successors' file systems.
pub const BASIC_DATA: Guid = guid!("ebd0a0a2-b9e5-4433-87c0-68b6b72699c7");

/// An extended boot partition (the Boot Loader Specification).
pub const EXTENDED_BOOT: Guid = guid!("bc13c2ff-59e6-4262-a352-b275fd6f7172");

/// Where code of BIOS boot programs lies on a GPT disk.
pub const BIOS_BOOT: Guid = guid!("21686148-6449-6e6f-744e-656564454649");
/// What a vendor's system keeps for itself.
pub const VENDOR_RESERVED: Guid = guid!("e3c9e316-0b5c-4db8-817d-f92df00215ae");
/// What restores a system.
pub const RECOVERY: Guid = guid!("de94bba4-06d1-4d40-a16a-bfd50179d6ac");
/// What describes the volumes of a vendor's volume manager.
pub const LDM_METADATA: Guid = guid!("5808c8aa-7e8f-42e0-85d2-e1e90434cfb3");

const NAMES: [(Guid, &str); 28] = [
    (EFI_SYSTEM, "ESP"),
    (LINUX_DATA, "Linux data"),
    (BASIC_DATA, "basic data"),
    (BIOS_BOOT, "BIOS boot"),
    (guid!("024dee41-33e7-11d3-9d69-0008c781f39f"), "MBR inside GPT"),
    (VENDOR_RESERVED, "vendor reserved"),
    (RECOVERY, "recovery"),
    (LDM_METADATA, "LDM metadata"),
    (guid!("af9b60a0-1431-4f62-bc68-3311714a69ad"), "LDM data"),
    (guid!("4f68bce3-e8cd-4db1-96e7-fbcaf984b709"), "Linux root, x86_64"),
    (guid!("44479540-f297-41b2-9af7-d131d5f0458a"), "Linux root, x86"),
    (guid!("b921b045-1df0-41c3-af44-4c6f280d3fae"), "Linux root, aarch64"),
    (guid!("8484680c-9521-48c6-9c11-b0720656f69e"), "Linux /usr, x86_64"),
    (guid!("933ac7e1-2eb4-4f13-b844-0e14e2aef915"), "Linux home"),
    (guid!("3b8f8425-20e0-4f3b-907f-1a25a76f98e8"), "Linux server data"),
    (guid!("4d21b016-b534-45c2-a9fb-5c16e091fd2d"), "Linux /var"),
    (EXTENDED_BOOT, "extended boot"),
    (guid!("0657fd6d-a4ab-43c4-84e5-0933c84b4f4f"), "Linux swap"),
    (guid!("e6d6d379-f507-44c2-a23c-238f2a3df928"), "Linux LVM"),
    (guid!("a19d880f-05fc-4d3b-a006-743f0f84911e"), "Linux RAID"),
    (guid!("ca7d7ccb-63ed-4c53-861c-1742536059cc"), "Linux LUKS"),
    (guid!("516e7cb4-6ecf-11d6-8ff8-00022d09712b"), "BSD data"),
    (guid!("516e7cb6-6ecf-11d6-8ff8-00022d09712b"), "BSD UFS"),
    (guid!("516e7cb5-6ecf-11d6-8ff8-00022d09712b"), "BSD swap"),
    (guid!("516e7cba-6ecf-11d6-8ff8-00022d09712b"), "ZFS (BSD)"),
    (guid!("6a898cc3-1dd2-11b2-99a6-080020736631"), "ZFS"),
    (guid!("48465300-0000-11aa-aa11-00306543ecac"), "HFS+"),
    (guid!("7c3457ef-0000-11aa-aa11-00306543ecac"), "APFS"),
];

/// The type's name in a few words; `None` for one that is not known here.
pub fn name(type_guid: Guid) -> Option<&'static str> {
    NAMES.iter().find(|(guid, _)| *guid == type_guid).map(|(_, name)| *name)
}

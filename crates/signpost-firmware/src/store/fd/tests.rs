use super::*;
use proptest::prelude::*;

fn variable(name: &str, data: Vec<u8>) -> Variable {
    Variable { name: VariableName::global(name), attributes: Attributes::BOOT, data }
}

fn image() -> FdImage {
    FdImage::decode(blank()).unwrap()
}

#[test]
fn what_is_written_is_read_and_the_last_value_counts() {
    let mut image = image();
    for (name, data) in [("BootOrder", vec![1, 0]), ("Timeout", vec![5, 0]), ("BootOrder", vec![2, 0, 1, 0])]
    {
        image.write(&variable(name, data)).unwrap();
    }
    let read = FdImage::decode(image.bytes().to_vec()).unwrap().contents();
    assert_eq!(read.variables.len(), 2);
    assert_eq!(read.get(&VariableName::global("BootOrder")).unwrap().data, [2, 0, 1, 0]);
    assert!(read.faults.is_empty());
}

#[test]
fn a_removed_variable_is_gone_and_removing_it_again_writes_nothing() {
    let mut image = image();
    image.write(&variable("BootNext", vec![1, 0])).unwrap();
    assert_eq!(image.remove(&VariableName::global("BootNext")).unwrap().len(), 1);
    assert!(image.contents().variables.is_empty());
    assert_eq!(image.remove(&VariableName::global("BootNext")), Ok(vec![]));
}

/// After any number of a write's patches, the variable has its old value or its new one.
#[test]
fn a_write_cut_short_leaves_the_old_value_or_the_new_one() {
    let mut before = image();
    before.write(&variable("BootOrder", vec![1, 0])).unwrap();
    let patches = before.clone().write(&variable("BootOrder", vec![2, 0])).unwrap();
    let mut seen = vec![];
    for cut in 0..=patches.len() {
        let mut bytes = before.bytes().to_vec();
        for patch in &patches[..cut] {
            bytes[patch.offset..patch.offset + patch.bytes.len()].copy_from_slice(&patch.bytes);
        }
        let contents = FdImage::decode(bytes).unwrap().contents();
        seen.push(contents.get(&VariableName::global("BootOrder")).unwrap().data[0]);
    }
    assert_eq!(seen, [1, 1, 1, 1, 2, 2]);
}

#[test]
fn a_full_store_says_what_is_needed_and_changes_nothing() {
    let mut image = image();
    image.write(&variable("Big", vec![0; 0x3_ff00])).unwrap();
    image.remove(&VariableName::global("Big")).unwrap();
    let before = image.bytes().to_vec();
    let error = image.write(&variable("Boot0001", vec![0; 200])).unwrap_err();
    assert!(
        matches!(error, StoreError::NoSpace { needed: 278, free: 88, reclaimable: 261_956, .. }),
        "{error:?}"
    );
    assert_eq!(image.bytes(), before);
}

#[test]
fn broken_images_are_named_with_their_offset() {
    let offset = |bytes: Vec<u8>| match FdImage::decode(bytes) {
        Err(StoreError::Malformed { offset, .. }) => offset,
        other => panic!("{other:?}"),
    };
    assert_eq!(offset(vec![]), 0);
    assert_eq!(offset(vec![0; 4096]), 16);
    assert_eq!(offset(blank()[..0x1000].to_vec()), 72 + 16);
    let mut unhealthy = blank();
    unhealthy[72 + 21] = 0;
    assert_eq!(offset(unhealthy), 72 + 20);
}

#[test]
fn a_broken_record_ends_the_list_and_is_not_written_behind() {
    let mut image = image();
    image.write(&variable("Timeout", vec![5, 0])).unwrap();
    let mut bytes = image.bytes().to_vec();
    bytes[100 + 36..100 + 40].copy_from_slice(&0x10_0000u32.to_le_bytes());
    let mut image = FdImage::decode(bytes).unwrap();
    let contents = image.contents();
    assert_eq!((contents.variables.len(), contents.faults.len()), (0, 1));
    assert!(contents.faults[0].contains("offset 0x64"), "{:?}", contents.faults);
    assert!(image.write(&variable("Timeout", vec![6, 0])).is_err());
}

proptest! {
    #[test]
    fn any_series_of_writes_reads_back(series in prop::collection::vec((0u16..6, prop::collection::vec(any::<u8>(), 0..40)), 1..20)) {
        let mut image = image();
        let mut model = alloc::collections::BTreeMap::new();
        for (number, data) in series {
            let name = VariableName::boot_option(number);
            if data.is_empty() {
                image.remove(&name).unwrap();
                model.remove(&name);
            } else {
                image.write(&Variable { name: name.clone(), attributes: Attributes::BOOT, data: data.clone() }).unwrap();
                model.insert(name, data);
            }
        }
        let read = FdImage::decode(image.bytes().to_vec()).unwrap().contents();
        let read = read.variables.into_iter().map(|variable| (variable.name, variable.data)).collect();
        prop_assert_eq!(model, read);
    }

    #[test]
    fn spoiled_stores_never_panic(spoiled in prop::collection::vec((0usize..400, any::<u8>()), 1..12)) {
        let mut image = image();
        image.write(&variable("BootOrder", vec![1, 0])).unwrap();
        image.write(&variable("Boot0001", vec![7; 90])).unwrap();
        let mut bytes = image.bytes().to_vec();
        for (at, value) in spoiled {
            bytes[at] = value;
        }
        if let Ok(mut image) = FdImage::decode(bytes) {
            let before = image.contents().variables.len();
            if image.write(&variable("Extra", vec![1])).is_ok() {
                prop_assert!(image.contents().variables.len() >= before);
            }
        }
    }

    #[test]
    fn random_bytes_never_panic(bytes: Vec<u8>) {
        prop_assert!(FdImage::decode(bytes).is_err());
    }
}

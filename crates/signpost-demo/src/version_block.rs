//! `VS_VERSIONINFO` with one table of strings.

/// The resource's data.
pub(crate) fn version_block(strings: &[(&'static str, String)]) -> Vec<u8> {
    let mut table = Vec::new();
    for (key, value) in strings {
        let mut text = utf16(value);
        text.extend([0, 0]);
        let units = (text.len() / 2) as u16;
        append(&mut table, block(key, &text, units, true, &[]));
    }
    let table = block("040904b0", &[], 0, true, &table);
    let info = block("StringFileInfo", &[], 0, true, &table);
    let fixed: Vec<u8> =
        [0xfeef_04bd_u32, 0x1_0000].iter().flat_map(|word| word.to_le_bytes()).chain([0; 44]).collect();
    block("VS_VERSION_INFO", &fixed, fixed.len() as u16, false, &info)
}

fn block(key: &str, value: &[u8], value_length: u16, is_text: bool, children: &[u8]) -> Vec<u8> {
    let mut body = utf16(key);
    body.extend([0, 0]);
    // The header is 6 bytes: pad so that value and children start on four.
    body.resize((body.len() + 6).next_multiple_of(4) - 6, 0);
    body.extend(value);
    if !children.is_empty() {
        body.resize((body.len() + 6).next_multiple_of(4) - 6, 0);
        body.extend(children);
    }
    let mut bytes = ((body.len() + 6) as u16).to_le_bytes().to_vec();
    bytes.extend(value_length.to_le_bytes());
    bytes.extend(u16::from(is_text).to_le_bytes());
    bytes.extend(body);
    bytes
}

fn append(list: &mut Vec<u8>, block: Vec<u8>) {
    list.resize(list.len().next_multiple_of(4), 0);
    list.extend(block);
}

fn utf16(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

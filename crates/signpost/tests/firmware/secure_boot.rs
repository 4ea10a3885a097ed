//! What we say of Secure Boot beside what real firmware does: every program is tried, one after the other, with keys that
//! the test itself enrols.

use std::path::Path;

use sha2::{Digest, Sha256};
use signpost_demo::program::{Ending, Program};
use signpost_demo::{BenchSpec, StoreKind};
use signpost_firmware::boot_variables::{boot_option, boot_order};
use signpost_firmware::load_option::LoadOption;
use signpost_firmware::signature_list::{DATABASE_VENDOR, Signature, encode};
use signpost_firmware::variable::{Attributes, Variable, VariableName};
use signpost_firmware::{Guid, guid};
use signpost_vm::Spec;

use crate::debian::run;
use crate::harness::{TestMachine, file, lark_disk, small};
use crate::vm;

const OWNER: Guid = guid!("5e1f0c9a-1d1b-4f5b-9f0e-70b1d7c3a001");
/// The firmware's own switch for Secure Boot.
const SWITCH: Guid = guid!("f0a30bc7-af08-4556-99c4-001009c93a44");

/// Keys and certificates of made-up people, made by openssl.
struct Keys<'a>(&'a Path);

impl Keys<'_> {
    fn path(&self, name: &str) -> String {
        self.0.join(name).to_str().unwrap().to_string()
    }

    /// A certificate of its own, or issued by another.
    fn make(&self, name: &str, issuer: Option<&str>) {
        let (key, pem, der) = (
            self.path(&format!("{name}.key")),
            self.path(&format!("{name}.pem")),
            self.path(&format!("{name}.der")),
        );
        let subject = format!("/O=Kestrel Point/CN={name}");
        let mut args = vec!["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "3000", "-sha256"];
        let by: Vec<String> = issuer.map_or_else(Vec::new, |issuer| {
            let path = |end: &str| self.path(&format!("{issuer}.{end}"));
            vec!["-CA".into(), path("pem"), "-CAkey".into(), path("key")]
        });
        args.extend(by.iter().map(String::as_str));
        args.extend(["-subj", &subject, "-keyout", &key, "-out", &pem]);
        run("openssl", &args);
        run("openssl", &["x509", "-in", &pem, "-outform", "der", "-out", &der]);
    }

    fn der(&self, name: &str) -> Vec<u8> {
        vm::read(&self.path(&format!("{name}.der")))
    }

    /// A program with another signature; intermediate certificates go along.
    fn sign(&self, program: &[u8], by: &str, more: Option<&str>) -> Vec<u8> {
        let (plain, signed) = (self.path("plain.efi"), self.path("signed.efi"));
        std::fs::write(&plain, program).unwrap();
        let (key, pem) = (self.path(&format!("{by}.key")), self.path(&format!("{by}.pem")));
        let more: Vec<String> =
            more.map_or_else(Vec::new, |more| vec!["--addcert".into(), self.path(&format!("{more}.pem"))]);
        let mut args = vec!["--key", &key, "--cert", &pem, "--output", &signed];
        args.extend(more.iter().map(String::as_str));
        args.push(&plain);
        run("sbsign", &args);
        vm::read(&signed)
    }

    /// SHA-256 of a certificate's part that is signed: what follows the outer header, as long as its own says.
    fn tbs_digest(&self, name: &str) -> Vec<u8> {
        let der = self.der(name);
        let length = usize::from(u16::from_be_bytes([der[6], der[7]])) + 4;
        Sha256::digest(&der[4..4 + length]).to_vec()
    }
}

/// The Authenticode digest of a program, signed or not: its file without checksum, certificate directory and signatures.
fn digest(unsigned: &[u8]) -> Vec<u8> {
    assert_eq!(unsigned.len() % 8, 0, "so that signing does not pad it");
    let pe = u32::from_le_bytes(unsigned[0x3c..0x40].try_into().unwrap()) as usize;
    let (check_sum, directory) = (pe + 24 + 64, pe + 24 + 112 + 4 * 8);
    let mut hash = Sha256::new();
    hash.update(&unsigned[..check_sum]);
    hash.update(&unsigned[check_sum + 4..directory]);
    hash.update(&unsigned[directory + 8..]);
    hash.finalize().to_vec()
}

fn variable(name: &str, vendor: Guid, attributes: u32, data: Vec<u8>) -> Variable {
    let name = VariableName { name: name.into(), vendor };
    Variable { name, attributes: Attributes::from_bits_retain(attributes), data }
}

/// Non-volatile, at boot, at run time, written by authenticated writes with a time.
const AUTHENTICATED: u32 = 0x27;

#[test]
fn our_verdict_is_that_of_the_firmware() {
    let work = tempfile::tempdir().unwrap();
    let keys = Keys(work.path());
    keys.make("Platform", None);
    keys.make("Vendor", None);
    keys.make("Builder", Some("Vendor"));
    keys.make("Apprentice", Some("Builder"));
    keys.make("Sacked", Some("Vendor"));
    keys.make("Robbed", Some("Vendor"));
    keys.make("Stranger", None);
    let program = |name: &str| Program::new(name).ending(Ending::GiveUp).build();
    let mut changed = keys.sign(&program("Changed"), "Vendor", None);
    changed[program("Changed").len() - 1] ^= 1;
    let twice = keys.sign(&keys.sign(&program("Twice"), "Stranger", None), "Vendor", None);
    let spoiled = keys.sign(&keys.sign(&program("Spoiled"), "Vendor", None), "Sacked", None);
    let programs = [
        ("Own", keys.sign(&program("Own"), "Vendor", None)),
        ("Issued", keys.sign(&program("Issued"), "Builder", None)),
        ("Deep", keys.sign(&program("Deep"), "Apprentice", Some("Builder"))),
        ("Gap", keys.sign(&program("Gap"), "Apprentice", None)),
        ("Plain", program("Plain")),
        ("Allowed", program("Allowed")),
        ("Foreign", keys.sign(&program("Foreign"), "Stranger", None)),
        ("Changed", changed),
        ("Forbidden", keys.sign(&program("Forbidden"), "Vendor", None)),
        ("Sacked", keys.sign(&program("Sacked"), "Sacked", None)),
        ("Robbed", keys.sign(&program("Robbed"), "Robbed", None)),
        ("Twice", twice),
        ("Spoiled", spoiled),
        ("Last", keys.sign(&Program::new("Last").build(), "Vendor", None)),
    ];
    let db = [Signature::Certificate(keys.der("Vendor")), Signature::Digest(digest(&program("Allowed")))];
    let dbx = [
        Signature::Digest(digest(&program("Forbidden"))),
        Signature::Certificate(keys.der("Sacked")),
        Signature::CertificateDigest { digest: keys.tbs_digest("Robbed"), since: [0; 16] },
    ];
    let files = programs.iter().map(|(name, bytes)| file(&format!("/EFI/kestrel/{name}.efi"), bytes.clone()));
    let disk = lark_disk(files.collect());
    let mut variables = vec![
        variable(
            "PK",
            VariableName::global("PK").vendor,
            AUTHENTICATED,
            encode(OWNER, &[Signature::Certificate(keys.der("Platform"))]),
        ),
        variable(
            "KEK",
            VariableName::global("KEK").vendor,
            AUTHENTICATED,
            encode(OWNER, &[Signature::Certificate(keys.der("Platform"))]),
        ),
        variable("db", DATABASE_VENDOR, AUTHENTICATED, encode(OWNER, &db)),
        variable("dbx", DATABASE_VENDOR, AUTHENTICATED, encode(OWNER, &dbx)),
        variable("SecureBootEnable", SWITCH, 3, vec![1]),
    ];
    for (number, (name, _)) in (1..).zip(&programs) {
        let path = disk.path_to(1, &format!("\\EFI\\kestrel\\{name}.efi"));
        variables.push(boot_option(number, &LoadOption::new(name, path, vec![])));
    }
    let order: Vec<u16> = (1..=programs.len() as u16).collect();
    variables.push(boot_order(&order));
    let machine = TestMachine::new(&BenchSpec {
        disks: vec![disk],
        variables,
        more: String::new(),
        ..small(StoreKind::Fd)
    });
    let list = machine.json(&["firmware", "list"]);
    let said: Vec<(String, String)> = list["entries"]
        .as_array()
        .unwrap()
        .iter()
        .map(|entry| {
            (
                entry["label"].as_str().unwrap().into(),
                entry["secure_boot"]["verdict"].as_str().unwrap_or("none").into(),
            )
        })
        .collect();
    let ours: Vec<&str> =
        said.iter().filter(|(_, verdict)| verdict == "accepted").map(|(label, _)| label.as_str()).collect();
    assert_eq!(ours, ["Own", "Issued", "Deep", "Allowed", "Twice", "Last"], "{list}");
    assert!(said.iter().all(|(_, verdict)| verdict == "accepted" || verdict == "refused"), "{said:?}");
    let rehearsed = machine.json(&["rehearse"]);
    let spec = Spec { secure_boot: true, ..Spec::of_bench(machine.folder(), &["lark.img"]) };
    let start = vm::start_spec(&spec);
    assert_eq!(start.started, ours, "{}", start.serial);
    assert_eq!(rehearsed["outcome"]["kind"], "starts");
    let text = machine.ok(&["firmware", "list"]);
    for why in [
        "Secure Boot refuses it: it carries no signature, and its digest is not in db",
        "whom no certificate in db vouches for",
        "it was changed after it was signed",
        "is in dbx",
        "whose digest is in dbx",
    ] {
        let joined = text.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(joined.contains(why), "{why}: {text}");
    }
}

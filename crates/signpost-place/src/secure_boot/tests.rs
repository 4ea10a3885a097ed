use alloc::vec;
use alloc::vec::Vec;

use proptest::prelude::*;
use signpost_demo::program::Program;
use signpost_firmware::image::pe::Pe;
use signpost_firmware::variable::{Attributes, Variable};

use super::*;

fn variable(name: &str, vendor: Guid, data: Vec<u8>) -> Variable {
    Variable { name: VariableName { name: name.into(), vendor }, attributes: Attributes::BOOT, data }
}

fn with(db: &[Signature], dbx: &[Signature]) -> SecureBoot {
    let list = |signatures: &[Signature]| signature_list::encode(Guid::ZERO, signatures);
    let variables = vec![
        variable("db", DATABASE_VENDOR, list(db)),
        variable("dbx", DATABASE_VENDOR, list(dbx)),
        variable("PK", VariableName::global("PK").vendor, vec![1]),
        variable("SecureBootEnable", SWITCH_VENDOR, vec![1]),
    ];
    SecureBoot::read(&variables.into())
}

fn digest(program: &[u8], length: usize) -> Signature {
    Signature::Digest(Image::read(program).unwrap().digest(length).unwrap())
}

#[test]
fn digests_allow_and_forbid_a_program_and_forbidding_wins() {
    let program = Program::new("Larkspur").build();
    for length in [20, 32, 48, 64] {
        let own = [digest(&program, length)];
        assert!(
            matches!(with(&own, &[]).judge(&program), Verdict::Accepted(why) if why.contains("is in db"))
        );
        assert!(
            matches!(with(&own, &own).judge(&program), Verdict::Refused(why) if why.contains("is in dbx"))
        );
    }
    let other = [digest(&Program::new("Meridian").build(), 32)];
    assert_eq!(
        with(&other, &other).judge(&program),
        Verdict::Refused("it carries no signature, and its digest is not in db".into())
    );
    assert_eq!(with(&[], &[]).is_on(), Some(true));
}

#[test]
fn what_is_not_known_is_not_guessed() {
    let program = Program::new("Larkspur").build();
    let nothing = SecureBoot::read(&Contents::default());
    assert!(
        matches!(nothing.judge(&program), Verdict::CannotTell { why, .. } if why.contains("not among the variables"))
    );
    assert_eq!(nothing.is_on(), None);
    let broken = SecureBoot::read(&vec![variable("db", DATABASE_VENDOR, vec![9; 40])].into());
    assert!(
        matches!(broken.judge(&program), Verdict::CannotTell { why, .. } if why.starts_with("db: the signature list"))
    );
    assert_eq!(
        with(&[], &[]).judge(b"text"),
        Verdict::Refused("not a program: it does not start with MZ".into())
    );
}

proptest! {
    #[test]
    fn random_signatures_and_databases_are_never_accepted(
        bytes in prop::collection::vec(any::<u8>(), 0..400),
        certificate in prop::collection::vec(any::<u8>(), 0..200),
    ) {
        let mut program = Program::new("Larkspur").signed().build();
        let at = Pe::decode(&program).unwrap().signing.certificates.unwrap().0 as usize;
        let length = (bytes.len() + 8) as u32;
        program.truncate(at);
        program.extend(length.to_le_bytes());
        program.extend([0, 2, 2, 0]);
        program.extend(&bytes);
        let certificates = [Signature::Certificate(certificate)];
        let verdict = with(&certificates, &certificates).judge(&program);
        prop_assert!(!matches!(verdict, Verdict::Accepted(_)), "{verdict:?}");
    }

    #[test]
    fn random_files_never_panic(bytes: Vec<u8>) {
        let _ = with(&[], &[]).judge(&[b"MZ".as_slice(), &bytes].concat());
    }
}

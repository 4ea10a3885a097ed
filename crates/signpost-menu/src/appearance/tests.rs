use alloc::vec::Vec;

use proptest::prelude::*;

use super::*;
use crate::resolve::Firmware;

#[test]
fn every_look_can_be_read() {
    for name in LookName::ALL {
        let appearance = Appearance { name, ..Appearance::default() };
        let faults: Vec<Unreadable> = appearance.unreadable().collect();
        assert_eq!(faults, [], "{}", name.word());
    }
}

#[test]
fn contrast_is_what_the_guidelines_compute() {
    let contrast = |a: u32, b: u32| Colour(a).contrast(Colour(b));
    assert_eq!(contrast(0, 0xff_ff_ff), 2100);
    assert_eq!(contrast(0xff_ff_ff, 0xff_ff_ff), 100);
    // Grey 767676 is the lightest of which white is read: 4.54; the next is not: 4.48.
    assert_eq!(contrast(0x76_76_76, 0xff_ff_ff), 454);
    assert_eq!(contrast(0x77_77_77, 0xff_ff_ff), 447);
    // Blue on black: 2.44; red: 5.25.
    assert_eq!(contrast(0x00_00_ff, 0), 244);
    assert_eq!(contrast(0xff_00_00, 0), 525);
}

#[test]
fn colours_are_read_or_what_would_be_right_is_said() {
    assert_eq!(Colour::parse("#9fD3c7"), Ok(Colour(0x9f_d3_c7)));
    assert_eq!(Colour::parse("navy"), Ok(Colour(0x80)));
    assert!(Colour::parse("navi").unwrap_err().ends_with("did you mean navy?"));
    for wrong in ["", "#", "#12345", "#1234567", "#12345g", "#+12345", "#ä1234", "rgb(1,2,3)"] {
        assert!(Colour::parse(wrong).is_err(), "{wrong}");
    }
}

#[test]
fn a_screen_with_a_comma_is_answered_with_the_right_form() {
    assert_eq!(ScreenMode::parse("1280x800"), Ok(ScreenMode::Size { width: 1280, height: 800 }));
    for near in ["1280,800", "1280*800", "1280 800", "1280X800"] {
        assert!(ScreenMode::parse(near).unwrap_err().ends_with("did you mean 1280x800?"), "{near}");
    }
    for wrong in ["0x0", "1280", "1280x", "x800", "65536x800", "7681x4320", "319x200", "-1x800"] {
        assert!(ScreenMode::parse(wrong).is_err(), "{wrong}");
    }
}

#[test]
fn a_mode_is_the_nearest_that_is_not_larger() {
    let modes = [(640, 480), (1024, 768), (1280, 1024), (1920, 1080)];
    let choose = |text: &str| ScreenMode::parse(text).unwrap().choose(&modes);
    assert_eq!(choose("1280x1024"), Some(2));
    assert_eq!(choose("1280x800"), Some(1));
    assert_eq!(choose("native"), Some(3));
    assert_eq!(choose("7680x4320"), Some(3));
    assert_eq!(choose("keep"), None);
    // Nothing fits: the mode stays.
    assert_eq!(choose("320x200"), None);
}

#[test]
fn a_text_console_shows_what_comes_nearest_and_can_be_read() {
    let on_console =
        |name: LookName, role: Role| Appearance { name, ..Appearance::default() }.palette().on_console(role);
    // White on black; black on light grey; black on light grey for the light look.
    assert_eq!(on_console(LookName::Dusk, Role::Text), (15, 0));
    assert_eq!(on_console(LookName::Dusk, Role::ChosenText), (0, 7));
    assert_eq!(on_console(LookName::Chalk, Role::Text), (0, 7));
    assert_eq!(on_console(LookName::Contrast, Role::ChosenText), (0, 7));
    for (name, role) in LookName::ALL.into_iter().flat_map(|name| Role::ALL.map(|role| (name, role))) {
        if role.is_read_on().is_some() {
            let (front, behind) = on_console(name, role);
            let of = |number: u8| CONSOLE[usize::from(number)];
            assert!(of(front).contrast(of(behind)) >= MIN_CONTRAST, "{name:?} {role:?}");
        }
    }
}

#[test]
fn bios_firmware_leaves_letters_and_uefi_pixels() {
    let drawn = |text: &str| {
        let mode = ScreenMode::parse(text).unwrap();
        (mode.is_drawn(Firmware::Uefi), mode.is_drawn(Firmware::Bios))
    };
    assert_eq!(drawn("keep"), (true, false));
    assert_eq!(drawn("text"), (false, false));
    assert_eq!((drawn("native"), drawn("1280x800")), ((true, true), (true, true)));
}

#[test]
fn a_screen_that_could_not_be_had_is_told() {
    let otherwise = |text: &str, drawn| ScreenMode::parse(text).unwrap().otherwise(drawn);
    assert_eq!(
        otherwise("1300x790", Some((1280, 768))).as_deref(),
        Some("the screen has no mode of 1300x790; the menu was drawn at 1280x768")
    );
    assert_eq!(otherwise("1280x768", Some((1280, 768))), None);
    assert_eq!(otherwise("native", Some((1280, 768))), None);
    assert_eq!(
        otherwise("native", None).as_deref(),
        Some("there is no screen of pixels; the menu was in letters")
    );
    assert_eq!((otherwise("keep", None), otherwise("text", None)), (None, None));
}

proptest! {
    #[test]
    fn what_would_do_can_be_read(text in 0_u32..0x100_0000, ground in 0_u32..0x100_0000) {
        let (text, ground) = (Colour(text), Colour(ground));
        prop_assert!(text.nearest_readable(ground).contrast(ground) >= MIN_CONTRAST);
        prop_assert_eq!(text.contrast(ground), ground.contrast(text));
    }

    #[test]
    fn a_colour_is_read_as_it_is_shown(colour in 0_u32..0x100_0000) {
        let colour = Colour(colour);
        prop_assert_eq!(Colour::parse(&alloc::format!("{colour}")), Ok(colour));
    }

    #[test]
    fn any_text_is_a_screen_or_is_not(text in ".{0,16}") {
        let _ = Colour::parse(&text);
        if let Ok(mode) = ScreenMode::parse(&text) {
            prop_assert_eq!(ScreenMode::parse(&mode.text()), Ok(mode));
        }
    }
}

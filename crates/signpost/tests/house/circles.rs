//! Inside a crate too, arrows only run down: no file imports one that imports it, by whatever way round.
//!
//! A module's file and those in its folder are one idea: they share what it defines.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use syn::punctuated::Punctuated;
use syn::visit::Visit;
use syn::{Expr, Item, Macro, Token, UseTree};

/// A crate's modules by their paths, the root's being empty.
type Modules = BTreeMap<Vec<String>, Module>;

/// How many names that only stand for other names are followed.
const MAX_STEPS: usize = 16;

#[derive(Default)]
struct Module {
    file: PathBuf,
    /// What is defined here, other modules left out.
    items: BTreeSet<String>,
    /// Names that stand for what lies elsewhere.
    names: Vec<(String, Vec<String>)>,
    /// Where all names are taken from.
    globs: Vec<Vec<String>>,
    /// Each path that is named here, as it is written.
    paths: BTreeSet<Vec<String>>,
}

impl<'ast> Visit<'ast> for Module {
    fn visit_path(&mut self, path: &'ast syn::Path) {
        self.paths.insert(path.segments.iter().map(|segment| segment.ident.to_string()).collect());
        syn::visit::visit_path(self, path);
    }

    fn visit_item_use(&mut self, used: &'ast syn::ItemUse) {
        self.take_names(&used.tree, Vec::new());
    }

    fn visit_macro(&mut self, called: &'ast Macro) {
        // Most macros take expressions; what is written otherwise names nothing of ours.
        if let Ok(given) = called.parse_body_with(Punctuated::<Expr, Token![,]>::parse_terminated) {
            given.iter().for_each(|expression| self.visit_expr(expression));
        }
    }
}

impl Module {
    fn take_names(&mut self, tree: &UseTree, mut path: Vec<String>) {
        match tree {
            UseTree::Path(step) => {
                path.push(step.ident.to_string());
                self.take_names(&step.tree, path);
            }
            UseTree::Group(group) => group.items.iter().for_each(|tree| self.take_names(tree, path.clone())),
            UseTree::Glob(_) => {
                self.paths.insert(path.clone());
                self.globs.push(path);
            }
            UseTree::Name(_) | UseTree::Rename(_) => {
                let (last, name) = match tree {
                    UseTree::Rename(renamed) => (&renamed.ident, &renamed.rename),
                    UseTree::Name(named) => (&named.ident, &named.ident),
                    _ => return,
                };
                if last != "self" {
                    path.push(last.to_string());
                }
                let name =
                    if name == "self" { path.last().cloned().unwrap_or_default() } else { name.to_string() };
                self.paths.insert(path.clone());
                self.names.push((name, path));
            }
        }
    }

    fn define(&mut self, item: &Item) {
        let name = match item {
            Item::Const(item) => &item.ident,
            Item::Enum(item) => &item.ident,
            Item::Fn(item) => &item.sig.ident,
            Item::Static(item) => &item.ident,
            Item::Struct(item) => &item.ident,
            Item::Trait(item) => &item.ident,
            Item::Type(item) => &item.ident,
            Item::Union(item) => &item.ident,
            _ => return,
        };
        self.items.insert(name.to_string());
    }
}

fn is_for_tests(item: &Item) -> bool {
    let (Item::Mod(syn::ItemMod { attrs, .. })
    | Item::Fn(syn::ItemFn { attrs, .. })
    | Item::Use(syn::ItemUse { attrs, .. })) = item
    else {
        return false;
    };
    attrs.iter().any(|attribute| {
        attribute.path().is_ident("cfg")
            && attribute.parse_args::<syn::Path>().is_ok_and(|path| path.is_ident("test"))
    })
}

/// `folder` is where the files of the modules below lie.
fn read(modules: &mut Modules, at: Vec<String>, file: &Path, folder: &Path, items: &[Item]) {
    let mut module = Module { file: file.to_path_buf(), ..Module::default() };
    for item in items.iter().filter(|item| !is_for_tests(item)) {
        match item {
            Item::Mod(child) => {
                let name = child.ident.to_string();
                let at = [at.as_slice(), std::slice::from_ref(&name)].concat();
                let folder = folder.join(&name);
                if let Some((_, items)) = &child.content {
                    read(modules, at, file, &folder, items);
                } else {
                    let file = [folder.with_extension("rs"), folder.join("mod.rs")];
                    let file = file.iter().find(|file| file.exists()).unwrap_or_else(|| panic!("{folder:?}"));
                    read_file(modules, at, file, &folder);
                }
            }
            other => {
                module.define(other);
                module.visit_item(other);
            }
        }
    }
    modules.insert(at, module);
}

fn read_file(modules: &mut Modules, at: Vec<String>, file: &Path, folder: &Path) {
    let text = std::fs::read_to_string(file).unwrap();
    let text = syn::parse_file(&text).unwrap_or_else(|error| panic!("{}: {error}", file.display()));
    read(modules, at, file, folder, &text.items);
}

/// The module in which what this path names, as it is written in `at`, is defined. Nothing where another crate defines it.
fn defined_in(modules: &Modules, at: &[String], path: &[String], steps: usize) -> Option<Vec<String>> {
    let steps = steps.checked_sub(1)?;
    let mut at = at.to_vec();
    let mut rest = path;
    while let Some((name, behind)) = rest.split_first() {
        match name.as_str() {
            "crate" => at.clear(),
            "self" => {}
            "super" => drop(at.pop()),
            _ => {
                let child = [at.as_slice(), std::slice::from_ref(name)].concat();
                if modules.contains_key(&child) {
                    at = child;
                } else {
                    let module = modules.get(&at)?;
                    if module.items.contains(name) {
                        return Some(at);
                    }
                    let elsewhere = module.names.iter().find(|(known, _)| known == name);
                    return elsewhere.map_or_else(
                        || {
                            let mut globs = module.globs.iter();
                            globs.find_map(|glob| defined_in(modules, &at, &[glob, rest].concat(), steps))
                        },
                        |(_, path)| defined_in(modules, &at, &[path, behind].concat(), steps),
                    );
                }
            }
        }
        rest = behind;
    }
    Some(at)
}

/// Which file takes something from which.
fn imports(modules: &Modules) -> BTreeMap<&Path, BTreeSet<&Path>> {
    let mut imports = BTreeMap::<&Path, BTreeSet<&Path>>::new();
    for (at, module) in modules {
        let found = module.paths.iter().filter_map(|path| defined_in(modules, at, path, MAX_STEPS));
        let found = found.filter(|found| !at.starts_with(found));
        let files = found.filter_map(|at| modules.get(&at)).map(|module| module.file.as_path());
        imports.entry(&module.file).or_default().extend(files.filter(|file| *file != module.file));
    }
    imports
}

/// All files that a file takes something from, at whatever distance.
fn below<'a>(imports: &BTreeMap<&'a Path, BTreeSet<&'a Path>>, file: &Path) -> BTreeSet<&'a Path> {
    let mut found = BTreeSet::new();
    let mut next: Vec<&Path> = imports.get(file).into_iter().flatten().copied().collect();
    while let Some(file) = next.pop() {
        if found.insert(file) {
            next.extend(imports.get(file).into_iter().flatten().copied());
        }
    }
    found
}

/// Each import that is part of a circle, in words.
fn circles(root: &Path) -> Vec<String> {
    let mut modules = Modules::new();
    read_file(&mut modules, Vec::new(), root, root.parent().unwrap());
    let imports = imports(&modules);
    assert!(
        modules.len() == 1 || imports.values().any(|files| !files.is_empty()),
        "{root:?} imports nothing"
    );
    let mut circles = Vec::new();
    for (file, taken) in &imports {
        for other in taken.iter().filter(|other| below(&imports, other).contains(file)) {
            let [from, to] = [*file, other].map(|file| file.strip_prefix(super::root()).unwrap().display());
            circles.push(format!("{from} -> {to}"));
        }
    }
    circles
}

#[test]
fn no_file_imports_one_that_imports_it() {
    let house = super::root();
    let crates = std::fs::read_dir(house.join("crates")).unwrap().map(|entry| entry.unwrap().path());
    let crates = crates.chain(["boot/uefi", "boot/bios", "xtask"].map(|name| house.join(name)));
    let roots = crates.flat_map(|folder| ["src/lib.rs", "src/main.rs"].map(|root| folder.join(root)));
    let roots: Vec<PathBuf> = roots.filter(|root| root.exists()).collect();
    assert!(roots.len() > 15, "{roots:?}");
    let circles: Vec<String> = roots.iter().flat_map(|root| circles(root)).collect();
    assert!(circles.is_empty(), "part of a circle:\n{}", circles.join("\n"));
}

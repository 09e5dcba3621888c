//! A recipe, given any bytes whatever: a fuzz target in `fuzz/` calls this, and a test replays what it found.

use std::path::Path;

use crate::recipe::Recipe;

/// Reads a recipe; one that is understood survives being written.
pub fn recipe(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let Ok(recipe) = Recipe::from_text(text, Path::new("recipe.toml")) else { return };
    recipe.step.iter().for_each(|step| drop(step.command_line()));
    let again = recipe.to_text().map(|text| Recipe::from_text(&text, Path::new("recipe.toml")));
    assert!(matches!(again, Ok(Ok(_))), "a recipe does not survive being written");
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_fuzzing_found_and_its_seeds_are_read_without_a_panic() {
        let fuzz = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz");
        let seed = std::fs::read_to_string(fuzz.join("seeds/recipe/plain")).unwrap();
        assert_eq!(Recipe::from_text(&seed, Path::new("recipe.toml")).unwrap().step.len(), 3);
        let found: Vec<_> = std::fs::read_dir(fuzz.join("found/recipe")).unwrap().collect();
        assert!(!found.is_empty());
        found.into_iter().for_each(|entry| recipe(&std::fs::read(entry.unwrap().path()).unwrap()));
    }
}

//! Prints the table of the keys of recipes, for docs/recipes.md.

fn main() {
    print!("{}", stavel_work::recipe_keys());
}

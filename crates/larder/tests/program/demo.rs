//! `larder demo`: every chapter holds, and the files stay where they were asked for.

use crate::house::House;

#[test]
fn the_story_holds_from_the_first_chapter_to_the_last() {
    let house = House::new();
    let told = house.larder("demo --into kept").ends(0).says(&[
        "1. The vendor's deployment does not run",
        "no such host",
        "InvalidImageName",
        "10. A tag moves",
        "13. What moves, what is refused, what goes",
        "Every chapter held",
    ]);
    assert_eq!(told.out.matches("Running").count(), 11, "from all three larders");
    assert!(house.read("kept/larder.lock").contains("gauges/steamgauge"));
    house.larder("demo --into kept").ends(2).says(&["is not empty"]);
}

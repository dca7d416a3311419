// What the console computes, for the tests alone: they run it in a browser.
export { lies, sums, touched, withAssets, withLock } from "./api/changes";
export { pagesFor } from "./api/rows";
export { kindOf } from "./api/words.gen";
export { changedIn } from "./api/desk";
export { groupsOf, hasHere } from "./pages/desk/groups";
export { listingOf } from "./pages/assets/listing";
export { addRule, moveRule, removeRule, setKey, setRule } from "./pages/rules/rulesText";
export { distanceFor } from "./pages/compare/framing";
export { momentSpot, placeSpot, spotMoment, spotNamed, spotPlace, spotPoint } from "./parts/Pointing";
export { plainly, remedy, sentence } from "./parts/Trouble";
export { ago, grown, plural, size } from "./parts/words";

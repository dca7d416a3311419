/** writing says whether a key goes into what somebody writes. */
export const writing = (target: EventTarget | null) =>
  target instanceof HTMLElement &&
  (target.isContentEditable || target.closest("input, textarea, select, [role=dialog], [role=alertdialog]") !== null);

/** Whether a key press is text for a field, or belongs to an open menu or dialog. */
export function isTyping(event: KeyboardEvent): boolean {
  const target = event.target as HTMLElement | null;
  return Boolean(
    target?.closest("input, textarea, select, [contenteditable], .modal, .dropdown-menu"),
  );
}

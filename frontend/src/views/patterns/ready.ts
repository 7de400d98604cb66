/** Patterns to begin with: each works on any log that tells what it asks for. */
export const READY: Record<string, string> = {
  "went on only after the third try": "[failed>=2] .",
  "came by a link, was sent away, and never got to what it was for":
    "[link=any wanted=$s] [screen!=$s]* $",
  "tried a tab, and at once another": "([move=switch_tab] [move=switch_tab]) within 3s",
  "left within 3 s of coming back from the background": "[after_return<3s] $",
  "piled up three of the same": "[mark=piled_up screen=$s] .. [mark=piled_up screen=$s]",
  "in and straight back, four times and more": "([move=push] [move=pop]){4,}",
};

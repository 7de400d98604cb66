interface View {
  path: string;
  word: string;
}

/** The view that shows the figures of a measure; each page says which it shows. */
export const VIEWS: Record<string, View> = {};

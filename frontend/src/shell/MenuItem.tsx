import { type ComponentProps, forwardRef } from "react";
import { Dropdown } from "react-bootstrap";

/** A choice in a menu; the one that holds is told as such. */
export function MenuItem({ active, ...own }: ComponentProps<typeof Dropdown.Item>) {
  const looks = `${own.className ?? ""} ${active ? "active" : ""}`;
  return <Dropdown.Item as={Item} {...own} className={looks} aria-current={active || undefined} />;
}

type Own = ComponentProps<"button"> & { "aria-selected"?: boolean };

/** Nothing here is selected: that is for lists. */
const Item = forwardRef<HTMLButtonElement, Own>(({ "aria-selected": _, ...own }, ref) => (
  <button ref={ref} type="button" {...own} />
));

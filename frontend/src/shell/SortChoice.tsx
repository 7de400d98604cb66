import { Dropdown } from "react-bootstrap";
import { SORTS, type Sort } from "../api/queries";
import { MenuItem } from "./MenuItem";

export function SortChoice({ sort, onSort }: { sort: Sort; onSort: (sort: Sort) => void }) {
  return (
    <Dropdown className="d-inline-block">
      <Dropdown.Toggle as="button" className="quiet small-text soft px-0" id="sort-choice">
        {SORTS[sort] ?? SORTS.newest}
      </Dropdown.Toggle>
      <Dropdown.Menu>
        {Object.entries(SORTS).map(([key, word]) => (
          <MenuItem key={key} active={key === sort} onClick={() => onSort(key as Sort)}>
            {word}
          </MenuItem>
        ))}
      </Dropdown.Menu>
    </Dropdown>
  );
}

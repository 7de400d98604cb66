import type { MapView } from "../../api/client";
import { words } from "../../format";
import { type Column, name, number, opens, text } from "../../shell/columns";
import { moveFigure } from "./words";

export type Move = MapView["moves"][number];

export const MOVE_COLUMNS: Column<Move>[] = [
  opens("journeys", (move) => ({ figure: moveFigure(move), n: move.journeys })),
  number("times", (move) => move.steps),
  name("from", (move) => move.from),
  name("to", (move) => move.to),
  text("by", (move) => words(move.by)),
];

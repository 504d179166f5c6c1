import { useRef } from "react";

/**
 * How many places rows in view take turns in: a row that leaves the view lends its place to one that comes into it, so that scrolling
 * changes texts and builds nothing. As many as were ever in view.
 */
export function usePlaces(inView: number): number {
  const most = useRef(1);
  most.current = Math.max(most.current, inView);
  return most.current;
}

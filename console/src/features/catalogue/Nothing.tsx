import { Link } from "react-router";

/** An empty dataset: where to begin. */
export function Nothing() {
  return (
    <p>
      Nothing has arrived in this dataset yet. <Link to="/arrivals">Arrivals</Link> shows how to push a point or import
      a file.
    </p>
  );
}

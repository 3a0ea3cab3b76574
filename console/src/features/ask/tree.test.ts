import { describe, expect, it } from "vitest";

import type { Condition, QueryTree, Selection } from "../../api/types";
import { compared, expression, metricsOf, simple, type SimpleShow, withTag } from "./tree";
import { texts } from "./TakeAway";

const upper: Condition = { is: { tag: "reach", texts: ["upper"] } };
const level: Selection = { metric: { metric: "level" }, condition: upper };
const mean = (of: Selection): QueryTree["shows"][number] => ({
  expr: { reduction: { reducer: "mean", of: { selection: of } } },
});

describe("a show as fields", () => {
  it("comes back as it was", () => {
    const fields: SimpleShow = {
      reducer: "p90",
      metric: "flow",
      tests: [
        { tag: "reach", sign: "=", text: "upper" },
        { tag: "lock", sign: "not in", text: "osier, marl" },
        { tag: "side", sign: "not matches", text: "u.*" },
      ],
      by: ["lock"],
    };
    expect(simple({ expr: expression(fields) })).toEqual(fields);
    expect(simple({ expr: expression({ ...fields, tests: [], by: "overall" }) })).toEqual({
      ...fields,
      tests: [],
      by: "overall",
    });
  });

  it("is none where it says more than the fields can", () => {
    expect(simple({ expr: { number: 1 } })).toBeNull();
    expect(simple(mean({ ...level, earlier: "1w" }))).toBeNull();
    expect(simple(mean({ ...level, condition: { has: "reach" } }))).toBeNull();
    expect(simple({ expr: { reduction: { reducer: "max", of: { lines: mean(level).expr } } } })).toBeNull();
  });
});

describe("a tag's value", () => {
  const tree: QueryTree = {
    lets: [{ name: "all", expr: mean({ metric: { metric: "flow" } }).expr }],
    shows: [mean(level), { expr: { selection: { metric: { metric: "all" } } } }],
  };

  it("narrows each metric that has the tag, and what let named follows", () => {
    const narrowed = withTag(tree, "lock", "osier", false, (metric) => metric === "level");
    const test = { is: { tag: "lock", texts: ["osier"], negated: false } };
    expect(narrowed.shows[0]).toEqual(mean({ ...level, condition: { all: [upper, test] } }));
    expect(narrowed.lets).toEqual(tree.lets);
    expect(narrowed.shows[1]).toEqual(tree.shows[1]);
  });

  it("replaces the earlier condition on the same tag", () => {
    const out = withTag(tree, "reach", "upper", true, () => true);
    const condition = { is: { tag: "reach", texts: ["upper"], negated: true } };
    expect(out.shows[0]).toEqual(mean({ ...level, condition }));
  });

  it("is found in every metric that the query reads", () => {
    expect(metricsOf(tree)).toEqual(["level", "flow"]);
  });
});

describe("a comparison", () => {
  it("shows each thing a second time, that much earlier, names and all", () => {
    const tree: QueryTree = {
      lets: [{ name: "all", expr: mean(level).expr }],
      shows: [{ expr: { selection: { metric: { metric: "all" } } }, label: "levels" }],
    };
    const both = compared(tree, "1w");
    expect(both.lets?.[1]).toEqual({ name: "all_1w_earlier", expr: mean({ ...level, earlier: "1w" }).expr });
    expect(both.shows[1]).toEqual({
      expr: { selection: { metric: { metric: "all_1w_earlier" } } },
      label: "levels, 1w earlier",
    });
  });

  it("leaves points alone, which are shown at their own times", () => {
    expect(compared({ shows: [{ expr: { points: level } }] }, "1d").shows).toHaveLength(1);
  });
});

describe("what is taken along", () => {
  it("survives the quotes of a shell", () => {
    const { command, call } = texts("velmar", `show mean of 'odd name'`, "over last 1h", "http://127.0.0.1:7430");
    expect(command).toContain(`'show mean of '\\''odd name'\\''\nover last 1h'`);
    expect(call).toContain("/api/v1/datasets/velmar/ask?query=show+mean+of+%27odd+name%27&frame=over+last+1h");
  });
});

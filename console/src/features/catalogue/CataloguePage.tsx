/** What there is: metrics, tags, and series with their latest values. */
import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { Cell, Column, Row, Table, TableBody, TableHeader, TabPanel, Tabs } from "react-aria-components";
import styled from "styled-components";

import { latestQuery, MOST_SERIES } from "../../api/queries";
import type { DatasetInfo, LatestPoint, Tags } from "../../api/types";
import { count, decimals, tell } from "../../format/numbers";
import { ago } from "../../format/times";
import { Leaf, Strip } from "../../ui/Leaves";
import { TableFrame, tableLook, Title, Waiting } from "../../ui/parts";
import { SearchBox } from "../../ui/SearchBox";
import { AskLink, named } from "./AskLink";
import { Bin } from "../../ui/Bin";
import { Metrics } from "./Metrics";
import { Nothing } from "./Nothing";
import { TagList } from "./TagList";
import { unitText } from "../../format/units";
import { troubleName } from "../../format/trouble";

const Grid = styled(Table)`
  ${tableLook}
  th {
    background: ${({ theme }) => theme.sheet};
    box-shadow: inset 0 -1px 0 ${({ theme }) => theme.rule};
  }
  tr[data-hovered] {
    background: ${({ theme }) => theme.shallow};
  }
`;

export function CataloguePage({ dataset }: { dataset: DatasetInfo }) {
  return (
    <>
      <Title>Catalogue of {dataset.name}</Title>
      <Tabs>
        <Strip aria-label="What to list">
          <Leaf id="metrics">Metrics ({count(dataset.metrics)})</Leaf>
          <Leaf id="series">Series ({count(dataset.series)})</Leaf>
          <Leaf id="tags">Tags</Leaf>
          <Leaf id="bin">Bin</Leaf>
        </Strip>
        <TabPanel id="metrics">
          <Metrics dataset={dataset.name} />
        </TabPanel>
        <TabPanel id="series">
          <SeriesList dataset={dataset.name} />
        </TabPanel>
        <TabPanel id="tags">
          <TagList dataset={dataset.name} />
        </TabPanel>
        <TabPanel id="bin">
          <Bin />
        </TabPanel>
      </Tabs>
    </>
  );
}

const tagText = (tags: Tags): string =>
  Object.entries(tags)
    .map(([key, value]) => `${key}=${value}`)
    .join(" ");

function SeriesList({ dataset }: { dataset: string }) {
  const [search, setSearch] = useState("");
  const { data, error, refetch, dataUpdatedAt } = useQuery(latestQuery(dataset, useDeferredValue(search)));
  if (!data) return <Waiting error={error} retry={refetch} />;
  const places = placesByMetric(data.items);
  const isTroubled = data.items.some((item) => item.trouble !== null);
  return (
    <>
      <SearchBox
        value={search}
        onChange={setSearch}
        placeholder="metric, tag or value"
        status={
          data.total > MOST_SERIES
            ? `the first ${count(MOST_SERIES)} of ${count(data.total)}: search to narrow`
            : `${count(data.total)} series`
        }
      />
      {data.total === 0 ? (
        search === "" ? (
          <Nothing />
        ) : (
          <p>No series has “{search}” in its metric, tags or values.</p>
        )
      ) : (
        <TableFrame $height={640}>
          <Grid aria-label="Series">
            <TableHeader>
              <Column isRowHeader>metric</Column>
              <Column>tags</Column>
              <Column className="figure">latest value</Column>
              <Column>unit</Column>
              <Column>when</Column>
              {isTroubled && <Column>trouble</Column>}
            </TableHeader>
            <TableBody items={data.items.map((item) => ({ ...item, id: `${item.metric} ${tagText(item.tags)}` }))}>
              {(item: LatestPoint) => (
                <Row>
                  <Cell>
                    <AskLink text={item.metric} query={seriesQuery(item)} dataset={dataset} />
                  </Cell>
                  <Cell>{tagText(item.tags)}</Cell>
                  <Cell className="figure">{tell(item.value, places.get(item.metric) ?? 0)}</Cell>
                  <Cell>{unitText(item.unit)}</Cell>
                  <Cell>
                    <span title={item.time ?? ""}>{item.time === null ? "–" : ago(item.time, dataUpdatedAt)}</span>
                  </Cell>
                  {isTroubled && (
                    <Cell>
                      {item.trouble === null ? "" : `${troubleName(item.trouble.trouble)} (${item.trouble.source})`}
                    </Cell>
                  )}
                </Row>
              )}
            </TableBody>
          </Grid>
        </TableFrame>
      )}
    </>
  );
}

/** Decimals for the values of each metric, so that they stand under each other. */
function placesByMetric(items: readonly LatestPoint[]): Map<string, number> {
  const numbers = Map.groupBy(items, ({ metric }) => metric);
  return new Map(
    [...numbers].map(([metric, points]) => [
      metric,
      decimals(points.flatMap(({ value }) => (typeof value === "number" ? [value] : []))),
    ]),
  );
}

function seriesQuery({ metric, tags, value }: LatestPoint): string {
  const conditions = Object.entries(tags).map(([key, wanted]) => `${named(key)} = ${JSON.stringify(wanted)}`);
  const where = conditions.length > 0 ? ` where ${conditions.join(" and ")}` : "";
  // A distribution has points; its reducers come later.
  const what = typeof value === "number" ? "mean" : typeof value === "string" ? "last" : "points";
  return `show ${what} of ${named(metric)}${where}`;
}

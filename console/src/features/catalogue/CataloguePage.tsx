/** What there is: metrics, tags, and series with their latest values. */
import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import {
  Cell,
  Column,
  Input,
  Label,
  Row,
  SearchField,
  Tab,
  Table,
  TableBody,
  TableHeader,
  TabList,
  TabPanel,
  Tabs,
} from "react-aria-components";
import { Link } from "react-router";
import styled from "styled-components";

import { latestQuery, metricsQuery, MOST_SERIES, tagsQuery } from "../../api/queries";
import type { DatasetInfo, LatestPoint, MetricInfo, TagInfo, Tags } from "../../api/types";
import { readPlace, usePlace, writePlace } from "../../app/address";
import { count, decimals, tell } from "../../format/numbers";
import { ago } from "../../format/times";
import { current, Faint, TableFrame, tableLook, Title, Waiting } from "../../ui/parts";

const Strip = styled(TabList)`
  display: flex;
  gap: 4px;
  border-bottom: 1px solid ${({ theme }) => theme.rule};
  margin-bottom: 16px;
` as typeof TabList;

const Leaf = styled(Tab)`
  padding: 4px 12px;
  cursor: pointer;
  border-bottom: 2px solid transparent;
  &[data-selected] {
    ${current}
  }
`;

const Grid = styled(Table)`
  ${tableLook}
  th {
    background: ${({ theme }) => theme.sheet};
    box-shadow: inset 0 -1px 0 ${({ theme }) => theme.rule};
  }
  td.wrap {
    white-space: normal;
  }
  tr[data-hovered] {
    background: ${({ theme }) => theme.shallow};
  }
`;

const Search = styled(SearchField)`
  display: flex;
  gap: 8px;
  align-items: center;
  margin-bottom: 12px;
  input {
    font: inherit;
    width: 280px;
    height: 28px;
    padding: 3px 8px;
    color: inherit;
    background: ${({ theme }) => theme.sheet};
    border: 1px solid ${({ theme }) => theme.faint};
    border-radius: 2px;
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
      </Tabs>
    </>
  );
}

/** A query about a metric, under the frame that holds. */
function AskLink({ metric, query, dataset }: { metric: string; query: string; dataset: string }) {
  const [place] = usePlace();
  const search = writePlace({ ...readPlace(writePlace(place)), dataset, query }).toString();
  return <Link to={{ pathname: "/ask", search }}>{metric}</Link>;
}

const named = (name: string): string => (/^[\p{L}_][\p{L}\p{N}_.:]*$/u.test(name) ? name : `'${name}'`);

const firstQuery = (metric: MetricInfo): string =>
  `show ${metric.kind === "state" ? "last" : "mean"} of ${named(metric.name)}`;

function Metrics({ dataset }: { dataset: string }) {
  const { data, error, refetch } = useQuery(metricsQuery(dataset));
  if (!data) return <Waiting error={error} retry={refetch} />;
  if (data.length === 0) return <Nothing />;
  return (
    <TableFrame>
      <Grid aria-label="Metrics">
        <TableHeader>
          <Column isRowHeader>metric</Column>
          <Column>kind</Column>
          <Column>unit</Column>
          <Column>description</Column>
          <Column>tags</Column>
          <Column className="figure">series</Column>
          <Column className="figure">points</Column>
        </TableHeader>
        <TableBody items={data.map((metric) => ({ ...metric, id: metric.name }))}>
          {(metric: MetricInfo) => (
            <Row>
              <Cell>
                <AskLink metric={metric.name} query={firstQuery(metric)} dataset={dataset} />
              </Cell>
              <Cell>{metric.kind}</Cell>
              <Cell>{metric.unit ?? "–"}</Cell>
              <Cell className="wrap">{metric.description}</Cell>
              <Cell>{metric.tags.join(" ")}</Cell>
              <Cell className="figure">{count(metric.series)}</Cell>
              <Cell className="figure">{count(metric.points)}</Cell>
            </Row>
          )}
        </TableBody>
      </Grid>
    </TableFrame>
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
  return (
    <>
      <Search value={search} onChange={setSearch}>
        <Label>Search</Label>
        <Input placeholder="metric, tag or value" spellCheck={false} />
        <Faint role="status">
          {data.total > MOST_SERIES
            ? `the first ${count(MOST_SERIES)} of ${count(data.total)}: search to narrow`
            : `${count(data.total)} series`}
        </Faint>
      </Search>
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
            </TableHeader>
            <TableBody items={data.items.map((item) => ({ ...item, id: `${item.metric} ${tagText(item.tags)}` }))}>
              {(item: LatestPoint) => (
                <Row>
                  <Cell>
                    <AskLink metric={item.metric} query={seriesQuery(item)} dataset={dataset} />
                  </Cell>
                  <Cell>{tagText(item.tags)}</Cell>
                  <Cell className="figure">{tell(item.value, places.get(item.metric) ?? 0)}</Cell>
                  <Cell>{item.unit ?? ""}</Cell>
                  <Cell>
                    <span title={item.time ?? ""}>{item.time === null ? "–" : ago(item.time, dataUpdatedAt)}</span>
                  </Cell>
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

function TagList({ dataset }: { dataset: string }) {
  const { data, error, refetch } = useQuery(tagsQuery(dataset));
  if (!data) return <Waiting error={error} retry={refetch} />;
  if (data.length === 0) return <Nothing />;
  return (
    <TableFrame>
      <Grid aria-label="Tags">
        <TableHeader>
          <Column isRowHeader>tag</Column>
          <Column className="figure">distinct values</Column>
          <Column>values (series)</Column>
        </TableHeader>
        <TableBody items={data.map((tag) => ({ ...tag, id: tag.key }))}>
          {(tag: TagInfo) => (
            <Row>
              <Cell>{tag.key}</Cell>
              <Cell className="figure">{count(tag.values.length)}</Cell>
              <Cell className="wrap">{tagValues(tag)}</Cell>
            </Row>
          )}
        </TableBody>
      </Grid>
    </TableFrame>
  );
}

const MOST_VALUES = 40;

function tagValues({ values }: TagInfo): string {
  const shown = values.slice(0, MOST_VALUES).map(({ value, series }) => `${value} (${count(series)})`);
  return shown.join(", ") + (values.length > MOST_VALUES ? ` and ${count(values.length - MOST_VALUES)} more` : "");
}

function Nothing() {
  return (
    <p>
      Nothing has arrived in this dataset yet. The <Link to="/">Overview</Link> shows how to push the first point.
    </p>
  );
}

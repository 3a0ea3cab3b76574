/** Is it well: what arrives, what is there, what it weighs. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import styled from "styled-components";

import { datasetsQuery, overviewQuery, OWN, refusalsQuery, sinksQuery, sourcesQuery } from "../../api/queries";
import type { DatasetInfo, Overview, SourceInfo } from "../../api/types";
import { bytes, count, short } from "../../format/numbers";
import { ago, millis } from "../../format/times";
import { troubles } from "../../format/trouble";
import { Faint, Failure, Heading, Notice, Panel, PlainTable, Title, Waiting } from "../../ui/parts";
import { Arrivals } from "./Arrivals";
import { FirstSteps } from "./FirstSteps";

const Figures = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(200px, 1fr));
  gap: 16px;
`;

const Figure = styled.div`
  font-size: 28px;
  line-height: 36px;
  font-weight: 600;
  margin: 4px 0;
`;

export function OverviewPage() {
  const { data, error, refetch } = useQuery(overviewQuery);
  const { data: datasets } = useQuery(datasetsQuery);
  if (!data || !datasets) return <Waiting error={error} retry={refetch} />;
  // The service's own metrics are always there.
  if (datasets.every((one) => one.name === OWN || one.points === 0)) return <FirstSteps />;
  return (
    <>
      <Title>Overview</Title>
      {error && <Failure error={error} retry={() => void refetch()} />}
      <Figures>
        <Card name="Arriving" figure={`${short(data.points_per_second)} points/s`} note="over the last ten seconds" />
        <Card name="Points" figure={short(data.points)} note={since(data)} exact={count(data.points)} />
        <Card name="Series" figure={count(data.series)} note={`of ${count(data.metrics)} metrics`} />
        <Card
          name="On disk"
          figure={bytes(data.storage.bytes)}
          note={`${eachPoint(data)}${inAMonth(data)}`}
          exact={`${count(data.storage.bytes)} bytes in ${data.storage.path}`}
        />
      </Figures>
      {data.storage.warnings.map((warning) => (
        <Notice key={warning}>
          {warning}. <Link to="/keeping">Keeping</Link>
        </Notice>
      ))}
      <Attention datasets={datasets} />
      <Panel aria-label="Arrivals">
        <Arrivals steps={data.arrivals} />
      </Panel>
      <Panel aria-label="Datasets">
        <Heading>Datasets</Heading>
        <Datasets datasets={datasets} now={millis(data.now)} sizes={data.storage.datasets} />
      </Panel>
      <Faint>
        Fenetre {data.version}, started {ago(data.started, millis(data.now))}. {count(data.storage.waiting_points)}{" "}
        points in the journal are not packed into blocks yet.
      </Faint>
    </>
  );
}

/** Minimum number of packed points for the figure: with fewer, the overhead of the file dominates. */
const FEW = 10_000;

/** Where its size will be, and against which limit. */
function inAMonth(data: Overview): string {
  const store = data.storage.places.find((place) => place.kind === "store");
  if (!store?.outlook || store.outlook.bytes_a_day <= 0) return "";
  const limit = store.keep_under.limit === null ? "" : ` of ${store.keep_under.limit}`;
  return `; ${bytes(store.outlook.in_30_days)}${limit} in 30 days`;
}

/** The trouble of a source; undefined if there is none. */
function troubleOf({ error, is_late: isLate, series }: SourceInfo): string | undefined {
  if (error !== null) return `fails: ${error}`;
  if (isLate) return "is late";
  const counts = troubles(series);
  return counts.length > 0 ? `reports ${counts.join(", ")}` : undefined;
}

/** What needs a hand, each with the way to it. */
function Attention({ datasets }: { datasets: DatasetInfo[] }) {
  const { data: refusals } = useQuery(refusalsQuery);
  const { data: sources = [] } = useQuery(sourcesQuery);
  const troubled = sources.flatMap((source) => {
    const what = troubleOf(source);
    return what === undefined ? [] : [{ name: source.name, what }];
  });
  const { data: sinks = [] } = useQuery(sinksQuery);
  const failing = sinks.filter((sink) => sink.state === "failing" || sink.set_aside > 0);
  const limits = refusals?.causes.find((cause) => cause.cause === "limit");
  const unreviewed = datasets.filter((dataset) => dataset.unreviewed > 0);
  if (!limits && unreviewed.length === 0 && troubled.length === 0 && failing.length === 0) return null;
  return (
    <Notice>
      {limits && (
        <p>
          {count(limits.count)} points of new series were rejected in {limits.dataset}, past a limit on series.{" "}
          <Link to="/arrivals">Rejected points</Link>
        </p>
      )}
      {troubled.map((source) => (
        <p key={source.name}>
          The source {source.name} {source.what}. <Link to="/arrivals">Sources</Link>
        </p>
      ))}
      {failing.map((sink) => (
        <p key={sink.name}>
          The sink {sink.name}{" "}
          {sink.error === null ? `has ${count(sink.set_aside)} batches that were refused` : `fails: ${sink.error}`}.{" "}
          <Link to="/sending">Sending</Link>
        </p>
      ))}
      {unreviewed.map((dataset) => (
        <p key={dataset.name}>
          {dataset.unreviewed === 1 ? "1 metric" : `${count(dataset.unreviewed)} metrics`} of {dataset.name} were
          created on arrival and not reviewed yet.{" "}
          <Link to={{ pathname: "/catalogue", search: `dataset=${encodeURIComponent(dataset.name)}` }}>
            Review them
          </Link>
        </p>
      ))}
    </Notice>
  );
}

function Card({ name, figure, note, exact }: { name: string; figure: string; note: string; exact?: string }) {
  return (
    <Panel title={exact}>
      <Heading>{name}</Heading>
      <Figure>{figure}</Figure>
      <Faint>{note}</Faint>
    </Panel>
  );
}

const since = ({ first }: Overview): string =>
  first === null
    ? ""
    : `since ${new Date(first).toLocaleDateString("en-GB", { day: "numeric", month: "long", year: "numeric" })}`;

function eachPoint({ storage }: Overview): string {
  const packed = storage.datasets.reduce((sum, dataset) => sum + dataset.points, 0);
  const weight = storage.datasets.reduce((sum, dataset) => sum + dataset.bytes, 0);
  return packed < FEW
    ? "too few packed points for an average"
    : `${(weight / packed).toFixed(2)} bytes per packed point`;
}

function Datasets({
  datasets,
  sizes,
  now,
}: {
  datasets: DatasetInfo[];
  sizes: Overview["storage"]["datasets"];
  now: number;
}) {
  return (
    <PlainTable style={{ marginTop: 8 }}>
      <thead>
        <tr>
          <th>dataset</th>
          <th>description</th>
          <th>zone</th>
          <th className="figure">metrics</th>
          <th className="figure">series</th>
          <th className="figure">points</th>
          <th className="figure">packed</th>
          <th>latest</th>
        </tr>
      </thead>
      <tbody>
        {datasets.map((dataset) => (
          <tr key={dataset.name}>
            <td>
              <Link to={{ pathname: "/catalogue", search: `dataset=${encodeURIComponent(dataset.name)}` }}>
                {dataset.name}
              </Link>
            </td>
            <td>{dataset.description}</td>
            <td>{dataset.zone}</td>
            <td className="figure">{count(dataset.metrics)}</td>
            <td className="figure">{count(dataset.series)}</td>
            <td className="figure">{count(dataset.points)}</td>
            <td className="figure">{bytes(sizes.find((size) => size.name === dataset.name)?.bytes ?? 0)}</td>
            <td title={dataset.last ?? ""}>{dataset.last === null ? "–" : ago(dataset.last, now)}</td>
          </tr>
        ))}
      </tbody>
    </PlainTable>
  );
}

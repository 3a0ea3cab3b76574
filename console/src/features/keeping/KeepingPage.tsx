/** How long what is kept in which fineness, what it weighs, what comes next, and where each limit comes from. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import styled from "styled-components";

import * as client from "../../api/client";
import { overviewQuery, retentionQuery, rollupsQuery } from "../../api/queries";
import type { DatasetInfo, Outlook, Place } from "../../api/types";
import { bytes, count, short } from "../../format/numbers";
import { day, millis } from "../../format/times";
import { Allowed } from "../../ui/Allowed";
import { Bin } from "../../ui/Bin";
import { Button, Failure, Faint, Heading, Notice, Panel, Title, Waiting } from "../../ui/parts";
import { Limits } from "./Limits";
import { Metrics } from "./Metrics";
import { Rollups } from "./Rollups";
import { Ruler } from "./Ruler";
import { Stored } from "./Stored";

const Facts = styled.dl`
  display: flex;
  flex-wrap: wrap;
  gap: 4px 32px;
  margin: 8px 0;
  dt {
    color: ${({ theme }) => theme.faint};
  }
  dd {
    margin: 0;
    font-weight: 600;
  }
`;

export default function KeepingPage({ dataset }: { dataset: DatasetInfo }) {
  const queries = useQueryClient();
  const { data, error, refetch } = useQuery(retentionQuery(dataset.name));
  const { data: overview } = useQuery(overviewQuery);
  const { data: rollups } = useQuery(rollupsQuery(dataset.name));
  const write = useMutation({ mutationFn: client.writeRetention, onSuccess: () => queries.invalidateQueries() });
  if (!data || !overview) return <Waiting error={error} retry={refetch} />;
  const now = millis(overview.now);
  const here = data.places.find((place) => place.kind === "dataset");
  const store = data.places.find((place) => place.kind === "store");
  const metrics = data.places.filter((place) => place.kind === "metric");
  const hasFile = data.config_file !== null;
  const levels = rollups?.policies.flatMap((policy) => policy.levels) ?? [];
  return (
    <>
      <Title>Keeping {dataset.name}</Title>
      {data.warnings.map((warning) => (
        <Notice key={warning}>{warning}</Notice>
      ))}
      {data.differing.length > 0 && (
        <Notice>
          Runtime settings differ from {data.config_file}: {data.differing.join(", ")}.{" "}
          <Allowed to="admin">
            <Button $quiet onPress={() => write.mutate()}>
              Write them to the file
            </Button>
          </Allowed>
        </Notice>
      )}
      {write.error && <Failure error={write.error} />}
      {here && (
        <Panel aria-label="Ruler">
          <Ruler place={here} levels={levels} exceptions={metrics.filter(hasOwnAge)} now={now} />
          {here.outlook && <Ahead place={here} outlook={here.outlook} />}
          <Limits key={`${here.name} ${here.keep_for.limit} ${here.keep_under.limit}`} place={here} hasFile={hasFile} />
        </Panel>
      )}
      <Panel aria-label="Rollups">
        {rollups ? <Rollups key={dataset.name} dataset={dataset.name} rollups={rollups} /> : <Faint>…</Faint>}
      </Panel>
      <Panel aria-label="Largest metrics">
        <Metrics key={dataset.name} dataset={dataset.name} places={metrics} hasFile={hasFile} />
      </Panel>
      <Panel aria-label="Stored data">
        <Stored key={dataset.name} dataset={dataset.name} />
      </Panel>
      {store && (
        <Panel aria-label="The store">
          <Heading>The whole store</Heading>
          <Facts>
            <Fact name="stored" value={bytes(store.bytes)} />
            {data.volume && <Fact name="free on the volume" value={bytes(data.volume.free)} />}
            {data.volume && <Fact name="reserve of the volume" value={bytes(data.volume.reserve)} />}
          </Facts>
          <Limits key={`${store.keep_for.limit} ${store.keep_under.limit}`} place={store} hasFile={hasFile} />
        </Panel>
      )}
      <Panel aria-label="Bin">
        <Heading>Expired and deleted data</Heading>
        <Bin />
      </Panel>
    </>
  );
}

function Fact({ name, value, exact }: { name: string; value: string; exact?: string }) {
  return (
    <div title={exact}>
      <dt>{name}</dt>
      <dd>{value}</dd>
    </div>
  );
}

/** Whether a metric is kept for another time than its dataset. */
const hasOwnAge = (place: Place): boolean => place.keep_for.place === place.name;

function Ahead({ place, outlook }: { place: Place; outlook: Outlook }) {
  return (
    <>
      <Figures place={place} outlook={outlook} />
      {outlook.recommended !== null && (
        <p style={{ marginBottom: 8 }}>
          <Faint>{outlook.arithmetic}.</Faint>
        </p>
      )}
    </>
  );
}

function Figures({ place, outlook }: { place: Place; outlook: Outlook }) {
  return (
    <Facts>
      <Fact name="stored" value={bytes(place.bytes)} exact={`${count(place.bytes)} bytes`} />
      <Fact name="points" value={short(place.points)} exact={count(place.points)} />
      <Fact name="growth" value={`${bytes(outlook.bytes_a_day)} per day`} />
      <Fact name="in 30 days" value={bytes(outlook.in_30_days)} />
      <Fact
        name={outlook.at_rest_from ? `maximum, from ${day(outlook.at_rest_from)}` : "maximum"}
        value={outlook.at_rest === null ? "grows without limit" : bytes(outlook.at_rest)}
        {...(outlook.beside_a_day >= 1 && {
          exact: `then ${bytes(outlook.beside_a_day)} per day of rollups without a limit`,
        })}
      />
      {place.next && (
        <Fact
          name="next expiry"
          value={day(place.next.at)}
          exact={`${place.next.what}: ${count(place.next.points)} points`}
        />
      )}
      {outlook.reached && <Fact name="size limit reached" value={day(outlook.reached)} />}
      {outlook.recommended !== null && <Fact name="recommended size limit" value={bytes(outlook.recommended)} />}
    </Facts>
  );
}

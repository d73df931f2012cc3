/** Schedules of a tenant: runs that start by themselves, what they do next, and what keeps them from it. */
import {useState} from 'react';
import {Link, useNavigate} from 'react-router';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small, Tag} from '../../design/Card';
import {CheckField} from '../../design/CheckField';
import {Confirm} from '../../design/Confirm';
import {DataTable} from '../../design/DataTable';
import {time} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Row} from '../../design/Stack';
import {
  useChangeSchedule,
  useCopySchedule,
  useDeleteSchedule,
  useOutlets,
  useRunSchedule,
  useSchedules,
  useSeeds,
} from './queries';
import {ScheduleForm} from './ScheduleForm';

type Schedule = Schemas['Schedule'];

/** A name for a copy that no other schedule has. */
export function copyName(name: string, taken: string[]): string {
  const stem = name.replace(/-\d+$/, '').slice(0, 36);
  let number = 2;
  while (taken.includes(`${stem}-${number}`)) number += 1;
  return `${stem}-${number}`;
}

export function SchedulesCard({tenant}: {tenant: string}) {
  const schedules = useSchedules(tenant);
  const outlets = useOutlets(tenant);
  const seeds = useSeeds(tenant);
  const change = useChangeSchedule(tenant);
  const copy = useCopySchedule(tenant);
  const start = useRunSchedule(tenant);
  const remove = useDeleteSchedule(tenant);
  const leave = useNavigate();
  const [edited, setEdited] = useState<string>();
  const error = change.error ?? copy.error ?? start.error ?? remove.error;
  const ready = Boolean(outlets.data?.length && seeds.data?.length);
  const rows = schedules.data ?? [];
  const saved = rows.find((each) => each.name === edited);
  return (
    <Card
      title="Schedules"
      note="runs that start by themselves, at times or after a change"
      actions={
        ready && (
          <Button changes needs="operator" onPress={() => setEdited('')}>
            Add a schedule
          </Button>
        )
      }
    >
      {schedules.isPending && <Loading what="schedules" />}
      {schedules.error && <Trouble error={schedules.error} again={() => void schedules.refetch()} />}
      {error && <Trouble error={error} />}
      {schedules.data && rows.length === 0 && edited === undefined && (
        <Notice title="No schedules yet">
          A schedule sends copies from every hour to once a month, or as soon as a record or the message changed, and
          reports providers where they land badly. {!ready && 'Add seeds and an outlet first.'}
        </Notice>
      )}
      {rows.length > 0 && (
        <DataTable
          label="Schedules"
          file={`schedules-${tenant}.csv`}
          rows={rows}
          id={(row) => row.name}
          columns={[
            {name: 'Schedule', value: (row) => row.name},
            {
              name: 'Runs',
              value: (row) => row.when,
              show: (row) => (
                <span style={{display: 'block', minWidth: '26ch', whiteSpace: 'normal'}}>
                  {row.when}
                  {row.problem && (
                    <>
                      <br />
                      <Tag level="fault">cannot start</Tag> {row.problem}
                    </>
                  )}
                </span>
              ),
            },
            {name: 'Outlet', value: (row) => row.outlet},
            {
              name: 'Next run',
              value: (row) => row.next_at ?? '',
              show: (row) =>
                row.next_at ? time(row.next_at) : <Small>{row.enabled ? 'on a change' : 'paused'}</Small>,
            },
            {
              name: 'Last run',
              value: (row) => row.last_run ?? null,
              show: (row) =>
                row.last_run ? (
                  <Link to={`/placement/${tenant}/${row.last_run}`}>run {row.last_run}</Link>
                ) : (
                  <Small>none</Small>
                ),
            },
            {
              name: 'Alert',
              value: (row) => alertOf(row),
              show: (row) => <Small>{alertOf(row) || 'none'}</Small>,
            },
            {
              name: 'On',
              value: (row) => (row.enabled ? 'on' : 'paused'),
              show: (row) => (
                <CheckField
                  label={`${row.name} is on`}
                  hidden
                  isSelected={row.enabled}
                  onChange={(enabled) => change.mutate({name: row.name, enabled})}
                />
              ),
            },
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) => (
                <Row style={{flexWrap: 'nowrap'}}>
                  <Button
                    tone="link"
                    needs="operator"
                    isDisabled={start.isPending}
                    onPress={() =>
                      start.mutate(row.name, {onSuccess: (run) => void leave(`/placement/${tenant}/${run.id}`)})
                    }
                  >
                    Run now
                  </Button>
                  <Button tone="link" needs="operator" onPress={() => setEdited(row.name)}>
                    Edit
                  </Button>
                  <Button
                    tone="link"
                    needs="operator"
                    isDisabled={copy.isPending}
                    onPress={() =>
                      copy.mutate(
                        {
                          name: row.name,
                          copy: copyName(
                            row.name,
                            rows.map((each) => each.name),
                          ),
                        },
                        {onSuccess: (made) => setEdited(made.name)},
                      )
                    }
                  >
                    Copy
                  </Button>
                  <Confirm
                    label="Delete"
                    tone="link"
                    title={`Delete the schedule ${row.name}?`}
                    action="Delete"
                    needs="operator"
                    onConfirm={() => remove.mutate(row.name)}
                  >
                    Its runs stay.
                  </Confirm>
                </Row>
              ),
            },
          ]}
        />
      )}
      {edited !== undefined && ready && (
        <ScheduleForm key={edited} tenant={tenant} saved={saved} onDone={() => setEdited(undefined)} />
      )}
    </Card>
  );
}

const alertOf = ({alert}: Schedule): string =>
  alert ? `from ${Math.round(100 * alert.share)} % in spam or missing after ${alert.after_minutes} min` : '';

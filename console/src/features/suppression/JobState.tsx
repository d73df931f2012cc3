/** How far a job is, with a way to stop it and to go on. */
import type {UseMutationResult} from '@tanstack/react-query';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {percent} from '../../design/format';
import {Trouble} from '../../design/Notice';

type Run = Pick<
  UseMutationResult<Schemas['Job'], Error, {id: number; dry?: boolean; stop?: boolean}>,
  'mutate' | 'isPending' | 'error'
>;

export function JobState({job, run}: {job: Schemas['Job']; run: Run}) {
  const busy = job.state === 'running' || job.state === 'waiting';
  return (
    <>
      {(busy || job.state === 'cancelled' || job.state === 'failed') && (
        <p role="status" style={{display: 'flex', gap: 12, alignItems: 'center', flexWrap: 'wrap'}}>
          {busy && <progress value={job.total ? job.done / job.total : undefined} aria-label="Progress" />}
          {job.state === 'waiting'
            ? 'Starting …'
            : job.state === 'running'
              ? job.total
                ? percent(job.done / job.total)
                : `${job.done} done`
              : job.state === 'cancelled'
                ? 'Cancelled. What was done is kept.'
                : `Failed: ${job.error}`}
          {busy && (
            <Button changes onPress={() => run.mutate({id: job.id, stop: true})} isDisabled={run.isPending}>
              Cancel
            </Button>
          )}
          {(job.state === 'cancelled' || job.state === 'failed') && (
            <Button
              changes
              onPress={() => run.mutate({id: job.id, dry: Boolean((job.result as {dry?: boolean}).dry)})}
              isDisabled={run.isPending}
            >
              Resume
            </Button>
          )}
        </p>
      )}
      {run.error && <Trouble error={run.error} />}
    </>
  );
}

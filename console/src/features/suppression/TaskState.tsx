/** How far a task is, with a way to stop it and to go on. */
import type {UseMutationResult} from '@tanstack/react-query';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {percent} from '../../design/format';
import {Trouble} from '../../design/Notice';

type Run = Pick<UseMutationResult<Schemas['Task'], Error, {id: number; dry?: boolean; stop?: boolean}>, 'mutate' | 'isPending' | 'error'>;

export function TaskState({task, run}: {task: Schemas['Task']; run: Run}) {
  const busy = task.state === 'running' || task.state === 'waiting';
  return (
    <>
      {(busy || task.state === 'stopped' || task.state === 'failed') && (
        <p role="status" style={{display: 'flex', gap: 12, alignItems: 'center', flexWrap: 'wrap'}}>
          {busy && <progress value={task.total ? task.done / task.total : undefined} aria-label="Progress" />}
          {task.state === 'waiting' ? 'It begins in a moment' : task.state === 'running' ? (task.total ? percent(task.done / task.total) : `${task.done} done`) : task.state === 'stopped' ? 'Stopped. What is done stays.' : `It did not go well: ${task.error}`}
          {busy && <Button onPress={() => run.mutate({id: task.id, stop: true})} isDisabled={run.isPending}>Stop</Button>}
          {(task.state === 'stopped' || task.state === 'failed') && <Button onPress={() => run.mutate({id: task.id, dry: Boolean((task.result as {dry?: boolean}).dry)})} isDisabled={run.isPending}>Go on</Button>}
        </p>
      )}
      {run.error && <Trouble error={run.error} />}
    </>
  );
}

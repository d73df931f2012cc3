/** Saved views: pages with what is chosen on them, under your own names. */
import {useContext, useState, type FormEvent} from 'react';
import {DialogTrigger, OverlayTriggerStateContext, Popover} from 'react-aria-components';
import {Link, useLocation} from 'react-router';
import styled from 'styled-components';
import {usePreferences, useSetPreferences} from '../features/session/preferences';
import {Button} from '../design/Button';
import {Soft} from '../design/Card';
import {useDone} from '../design/Done';
import {Field} from '../design/Field';
import {Trouble} from '../design/Notice';
import {colour, space} from '../design/tokens';

const Box = styled(Popover)`
  width: min(320px, calc(100vw - 32px));
  max-height: 70vh;
  overflow: auto;
  padding: ${space.m};
  display: grid;
  gap: ${space.m};
  background: ${colour('sheet')};
  color: ${colour('ink')};
  border: 1px solid ${colour('line')};
  border-radius: 4px;
  outline: none;
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  li a {
    display: block;
    padding: 5px 0;
    overflow-wrap: anywhere;
  }
  form {
    display: grid;
    gap: ${space.s};
    justify-items: start;
  }
`;

export function Views() {
  const {preferences} = usePreferences();
  return (
    <DialogTrigger>
      <Button needs="viewer">Views</Button>
      <Box placement="bottom end">
        <Saved views={preferences.views} />
      </Box>
    </DialogTrigger>
  );
}

function Saved({views}: {views: {name: string; path: string}[]}) {
  const overlay = useContext(OverlayTriggerStateContext);
  const close = () => overlay?.close();
  const {pathname, search} = useLocation();
  const set = useSetPreferences();
  const tell = useDone();
  const [name, setName] = useState('');
  const path = pathname + search;
  const known = views.find((view) => view.path === path);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const wanted = name.trim();
    const replaced = views.some((view) => view.name === wanted);
    set.mutate(
      {views: [...views.filter((view) => view.name !== wanted), {name: wanted, path}]},
      {
        onSuccess: () => {
          close();
          tell({
            text: `View “${wanted}” ${replaced ? 'replaced' : 'saved'}.`,
            undo: async () => {
              await set.mutateAsync({views});
              return `View “${wanted}” ${replaced ? 'is as before' : 'deleted'}.`;
            },
          });
        },
      },
    );
  };
  return (
    <>
      {views.length === 0 ? (
        <Soft>No saved views yet. A view keeps the page with its tenant, period and filters.</Soft>
      ) : (
        <ul aria-label="Saved views">
          {views.map((view) => (
            <li key={view.name}>
              <Link to={view.path} onClick={close} aria-current={view === known ? 'page' : undefined}>
                {view.name}
              </Link>
            </li>
          ))}
        </ul>
      )}
      {!known && (
        <form onSubmit={submit}>
          <Field label="Save this view as" value={name} onChange={setName} maxLength={60} isRequired />
          {set.error && <Trouble error={set.error} />}
          <Button type="submit" needs="viewer" isDisabled={set.isPending || !name.trim()}>
            Save
          </Button>
        </form>
      )}
      {views.length > 0 && (
        <Link to="/settings/account" onClick={close}>
          Edit saved views
        </Link>
      )}
    </>
  );
}

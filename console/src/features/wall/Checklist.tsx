/** The first hour: what is set up of a tenant and what is next. Gone when all is done, or when somebody hides it. */
import {useState} from 'react';
import {Link} from 'react-router';
import styled from 'styled-components';
import {useChecklist} from '../worklist/queries';
import {Button} from '../../design/Button';
import {Card} from '../../design/Card';
import {colour, space} from '../../design/tokens';

const Steps = styled.ol`
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(150px, 100%), 1fr));
  gap: ${space.m};
  li {
    border-top: 3px solid ${colour('line')};
    padding-top: ${space.s};
    font-size: 13px;
    color: ${colour('soft')};
  }
  li[data-next] {
    border-color: ${colour('rust')};
  }
  li[data-done] {
    border-color: ${colour('sound')};
  }
  b,
  a {
    display: block;
    font-weight: 600;
    color: ${colour('ink')};
  }
`;
const hiddenKey = (tenant: string) => `checklist hidden ${tenant}`;

export function Checklist({tenant}: {tenant: string}) {
  const list = useChecklist(tenant);
  const [hidden, setHidden] = useState(() => localStorage.getItem(hiddenKey(tenant)) !== null);
  if (!list.data || list.data.done || hidden) return null;
  const {steps} = list.data;
  const next = steps.find((each) => !each.done);
  const done = steps.filter((each) => each.done).length;
  const hide = () => {
    localStorage.setItem(hiddenKey(tenant), '1');
    setHidden(true);
  };
  return (
    <Card
      title="Set up"
      note={`${done} of ${steps.length} done`}
      actions={
        <Button tone="link" onPress={hide}>
          Hide
        </Button>
      }
    >
      <Steps>
        {steps.map((each) => (
          <li key={each.step} data-done={each.done || undefined} data-next={each === next || undefined}>
            {each.done ? <b>{each.title}: done</b> : <Link to={each.path}>{each.title}</Link>}
            {each.text}
          </li>
        ))}
      </Steps>
    </Card>
  );
}

// The keys that count on the page that is open.
import { allActs } from './acts';
import { Dialog } from './Dialog';

const always: [string, string][] = [
  ['Tab, Enter', 'move and choose'],
  ['Esc', 'leave a field or a dialog'],
];

export default function Keys({ onClose }: { onClose: () => void }) {
  return (
    <Dialog label="Keys" className="keys" onClose={onClose}>
      <div className="bar">
        <h2 className="grow">Keys</h2>
        <button type="button" className="link" onClick={onClose}>
          Close
        </button>
      </div>
      <div className="keys-groups">
        {allActs()
          .map((group) => ({ ...group, acts: group.acts.filter((act) => act.key) }))
          .filter((group) => group.acts.length > 0)
          .map((group) => (
            <section key={group.title}>
              <h3>{group.title}</h3>
              <Pairs pairs={group.acts.map((act) => [act.key ?? '', act.name])} />
            </section>
          ))}
        <section>
          <h3>Always</h3>
          <Pairs pairs={always} />
        </section>
      </div>
    </Dialog>
  );
}

function Pairs({ pairs }: { pairs: [string, string][] }) {
  return (
    <dl>
      {pairs.map(([key, what]) => (
        <div key={key}>
          <dt>
            <kbd>{key}</kbd>
          </dt>
          <dd>{what}</dd>
        </div>
      ))}
    </dl>
  );
}

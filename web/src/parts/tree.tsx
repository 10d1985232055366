import { createTreeCollection, HStack, Text, TreeView } from '@chakra-ui/react';
import { useMemo, useState } from 'react';

/** Something in a tree: what it is called there, and what is said of it. */
export type Branch = { id: string; text: string; says?: string; children?: Branch[] };

/** A tree that opens, by keys as well; whoever chooses one of it is told. */
export function Tree(props: { label: string; branches: Branch[]; chosen?: string; onChoose: (id: string) => void }) {
  const { branches } = props;
  const collection = useMemo(
    () =>
      createTreeCollection<Branch>({
        nodeToValue: (n) => n.id,
        nodeToString: (n) => n.text,
        rootNode: { id: '', text: '', children: branches },
      }),
    [branches],
  );
  const [expanded, setExpanded] = useState<string[]>(() => branches.map((b) => b.id));
  return (
    <TreeView.Root
      collection={collection}
      selectionMode="single"
      selectedValue={props.chosen ? [props.chosen] : []}
      onSelectionChange={(e) => e.selectedValue[0] !== undefined && props.onChoose(e.selectedValue[0])}
      expandedValue={expanded}
      onExpandedChange={(e) => setExpanded(e.expandedValue)}
      size="sm"
    >
      <TreeView.Label srOnly>{props.label}</TreeView.Label>
      <TreeView.Tree>
        <TreeView.Node<Branch>
          indentGuide={<TreeView.BranchIndentGuide />}
          render={({ node, nodeState }) => {
            const says = (
              <HStack as="span" gap="3" minW="0" wrap="wrap">
                <Text as="span" fontFamily="mono" fontSize="sm" fontWeight="600">
                  {node.text}
                </Text>
                {node.says && (
                  <Text as="span" color="faint" fontSize="sm">
                    {node.says}
                  </Text>
                )}
              </HStack>
            );
            return nodeState.isBranch ? (
              <TreeView.BranchControl _selected={{ bg: 'accent.soft', color: 'ink' }}>
                <Text as="span" aria-hidden color="faint" w="3">
                  {nodeState.expanded ? '▾' : '▸'}
                </Text>
                <TreeView.BranchText>{says}</TreeView.BranchText>
              </TreeView.BranchControl>
            ) : (
              <TreeView.Item _selected={{ bg: 'accent.soft', color: 'ink' }}>
                <Text as="span" w="3" />
                <TreeView.ItemText>{says}</TreeView.ItemText>
              </TreeView.Item>
            );
          }}
        />
      </TreeView.Tree>
    </TreeView.Root>
  );
}

/** The paths of a folder as a tree: each below the nearest that holds it, called as it is from there. */
export function branchesOf(root: string, paths: { path: string; says?: string }[]): Branch[] {
  const top: Branch = { id: root, text: root, children: [] };
  const known: Branch[] = [top];
  for (const p of [...paths].sort((a, b) => a.path.localeCompare(b.path))) {
    if (p.path === root) {
      top.says = p.says;
      continue;
    }
    const above =
      known.filter((k) => p.path.startsWith(`${k.id}/`)).sort((a, b) => b.id.length - a.id.length)[0] ?? top;
    const branch: Branch = { id: p.path, text: p.path.slice(above.id.length + 1), says: p.says };
    above.children = [...(above.children ?? []), branch];
    known.push(branch);
  }
  return [top];
}

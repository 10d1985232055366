import {
  FindingIcon,
  FolderIcon,
  GroupIcon,
  HostsIcon,
  JournalIcon,
  KeyIcon,
  LimitIcon,
  MatrixIcon,
  NoticeIcon,
  OverviewIcon,
  PeopleIcon,
  PersonIcon,
  PublishIcon,
  ReviewIcon,
  SettingsIcon,
  VolumeIcon,
  WhyIcon,
} from './icons';

/** A page that can be gone to; letter is what is typed after g to get there. */
export type Place = { to: string; text: string; Drawn: typeof FolderIcon; letter: string };

/** The pages, in the order of the day's work; what belongs together stands under a name, and can be folded. */
export const placeGroups: { name?: string; places: Place[] }[] = [
  {
    places: [
      { to: '/overview', text: 'Overview', Drawn: OverviewIcon, letter: 'o' },
      { to: '/folders', text: 'Folders', Drawn: FolderIcon, letter: 'f' },
      { to: '/volumes', text: 'Volumes', Drawn: VolumeIcon, letter: 'v' },
      { to: '/publishing', text: 'Publishing', Drawn: PublishIcon, letter: 'b' },
      { to: '/hosts', text: 'Hosts', Drawn: HostsIcon, letter: 'h' },
      { to: '/people', text: 'People', Drawn: PersonIcon, letter: 'p' },
      { to: '/groups', text: 'Groups', Drawn: GroupIcon, letter: 'g' },
      { to: '/limits', text: 'Limits', Drawn: LimitIcon, letter: 'l' },
      { to: '/notices', text: 'Notices', Drawn: NoticeIcon, letter: 'n' },
    ],
  },
  {
    name: 'Access',
    places: [
      { to: '/why', text: 'Why', Drawn: WhyIcon, letter: 'y' },
      { to: '/who', text: 'Who', Drawn: PeopleIcon, letter: 'w' },
      { to: '/matrix', text: 'Matrix', Drawn: MatrixIcon, letter: 'm' },
      { to: '/findings', text: 'Findings', Drawn: FindingIcon, letter: 'i' },
      { to: '/reviews', text: 'Reviews', Drawn: ReviewIcon, letter: 'r' },
    ],
  },
  {
    places: [
      { to: '/journal', text: 'Journal', Drawn: JournalIcon, letter: 'j' },
      { to: '/settings', text: 'Settings', Drawn: SettingsIcon, letter: 's' },
    ],
  },
];

/** What there is for who has no role: what is theirs. */
export const placesOfUsers: Place[] = [
  { to: '/account', text: 'My page', Drawn: KeyIcon, letter: 'a' },
  { to: '/why', text: 'Why', Drawn: WhyIcon, letter: 'y' },
];

package ospackage

// The tags of a header that are written or read. rpm's own names differ; the numbers are the
// format.
const (
	tagLocales           int32 = 100
	TagName              int32 = 1000
	TagVersion           int32 = 1001
	TagRelease           int32 = 1002
	TagEpoch             int32 = 1003
	TagSummary           int32 = 1004
	TagDescription       int32 = 1005
	TagBuildTime         int32 = 1006
	TagBuildHost         int32 = 1007
	TagSize              int32 = 1009
	TagVendor            int32 = 1011
	TagLicense           int32 = 1014
	TagPackager          int32 = 1015
	TagGroup             int32 = 1016
	TagURL               int32 = 1020
	tagOS                int32 = 1021
	TagArch              int32 = 1022
	tagFileSizes         int32 = 1028
	TagFileModes         int32 = 1030
	tagFileDevices       int32 = 1033
	tagFileTimes         int32 = 1034
	tagFileDigests       int32 = 1035
	tagFileTargets       int32 = 1036
	tagFileFlags         int32 = 1037
	tagFileUsers         int32 = 1039
	tagFileGroups        int32 = 1040
	tagAfterInstall      int32 = 1024
	tagAfterInstallShell int32 = 1086
	TagSourceRPM         int32 = 1044
	tagFileVerify        int32 = 1045
	TagProvides          int32 = 1047
	TagRequireFlags      int32 = 1048
	TagRequires          int32 = 1049
	TagRequireVersions   int32 = 1050
	TagConflictFlags     int32 = 1053
	TagConflicts         int32 = 1054
	TagConflictVersions  int32 = 1055
	tagWriter            int32 = 1064
	TagChangeTimes       int32 = 1080
	TagChangeNames       int32 = 1081
	TagChangeTexts       int32 = 1082
	TagObsoletes         int32 = 1090
	tagFileFilesystems   int32 = 1095
	tagFileInodes        int32 = 1096
	tagFileLanguages     int32 = 1097
	TagProvideFlags      int32 = 1112
	TagProvideVersions   int32 = 1113
	TagObsoleteFlags     int32 = 1114
	TagObsoleteVersions  int32 = 1115
	TagFileDirs          int32 = 1116
	TagFileNames         int32 = 1117
	TagDirs              int32 = 1118
	tagPayloadFormat     int32 = 1124
	tagPayloadPacking    int32 = 1125
	tagPayloadLevel      int32 = 1126
	TagLongSize          int32 = 5009
	tagFileDigestKind    int32 = 5011
	tagEncoding          int32 = 5062
	tagPayloadDigest     int32 = 5092
	tagPayloadDigestKind int32 = 5093
)

// The tags of the signature header, which has its own numbers.
const (
	sigDSA             int32 = 267
	sigHeader          int32 = 268
	sigSHA1            int32 = 269
	sigLongSize        int32 = 270
	sigLongPayloadSize int32 = 271
	sigSHA256          int32 = 273
	sigSize            int32 = 1000
	sigPGP             int32 = 1002
	sigMD5             int32 = 1004
	sigGPG             int32 = 1005
	sigPayloadSize     int32 = 1007
)

// The tags of the regions of the two headers.
const (
	regionOfSignatures int32 = 62
	regionOfHeader     int32 = 63
)
